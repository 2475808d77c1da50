"""Declipping by consistent linear prediction: the missing samples follow the resonances of the sound around them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.errors import CancelledError
from umbrick.core.mend.declipping import curve
from umbrick.core.model.autoregression import modelled
from umbrick.core.model.bounds import Bounds, Mask, Wave, spans_in
from umbrick.core.model.least_squares import fill

ORDER = 256
"""Samples the predictor looks back."""

_FRAME = 4096
_CORE = 512
_NOISE_SHARE = 1e-9
"""Less than elsewhere: a sound without highs is to be found exactly."""


def rebuild(
    wave: Wave,
    clipped: Mask,
    start: Wave | None = None,
    order: int = ORDER,
    sweeps: int = 3,
    to_ends: bool = False,
    bounds: Bounds | None = None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Wave:
    """Return the wave with its clipped samples set so that it is as predictable as it can be, beyond the rails.

    Model and samples are estimated in turn, in frames of 4096 samples around cores of about 512 whose unknown
    samples are solved together; the frames beyond a core's own samples are taken as they stand in that sweep.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Not changed.
    clipped : ndarray of bool, shape (n,)
        Samples that stand on a rail. Others come back unchanged.
    start : ndarray, shape (n,), optional
        A first guess, by default the smooth curve's.
    order : int
        Order of the predictor, 2 to 1024.
    sweeps : int
        How often model and samples are estimated, at least 1. More than three make deep clipping worse: the model
        grows fond of its own guesses.
    to_ends : bool
        Whether a first guess that was given is bettered near the ends of the wave too.
    bounds : Bounds, optional
        What the samples may be, by default at or beyond the rail that each clipped sample stands on.
    is_cancelled : callable
        Asked between frames; CancelledError is raised when it says so.

    References
    ----------
    A. J. E. M. Janssen, R. N. J. Veldhuis, L. B. Vries, "Adaptive interpolation of discrete-time signals that can be
    modeled as autoregressive processes", 1986; the bounds as in L. Atlas, C. Clark, "Clipped-waveform repair", 1993.
    """
    bounds = Bounds.of(wave, clipped) if bounds is None else bounds
    result = curve.rebuild(wave, clipped) if start is None else bounds.applied(start)
    cores = _cores(clipped)
    if start is not None and not to_ends:
        # Near the ends of the sound prediction has one side only: a guess made from both is better left alone.
        cores = [(begin, end) for begin, end in cores if begin >= order and end + order <= len(wave)]
    for _ in range(sweeps):
        for begin, end in cores:
            if is_cancelled():
                raise CancelledError
            _solve(result, clipped, bounds, begin, end, order)
    return result


def _cores(clipped: Mask) -> list[tuple[int, int]]:
    """Group runs of clipped samples into cores, cutting between runs."""
    cores: list[tuple[int, int]] = []
    for start, stop in zip(*spans_in(clipped), strict=True):
        if cores and stop - cores[-1][0] <= _CORE:
            cores[-1] = (cores[-1][0], int(stop))
        else:
            cores.append((int(start), int(stop)))
    return cores


def _solve(result: Wave, clipped: Mask, bounds: Bounds, begin: int, end: int, order: int) -> None:
    reach = max(_FRAME // 2 - (end - begin) // 2, 2 * order)
    first, last = max(0, begin - reach), min(len(result), end + reach)
    frame = result[first:last]
    unknown = np.flatnonzero(clipped[begin:end]) + begin - first
    model = modelled(frame, order, _NOISE_SHARE)
    if model is None:
        return
    bounds = Bounds(bounds.low[first:last], bounds.high[first:last])
    result[first + unknown] = fill(frame, unknown, bounds, model.error_filter)
