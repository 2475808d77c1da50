"""Declipping by sparsity: the sound that needs the fewest tones and still passes the rails."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d

from umbrick.core.errors import CancelledError
from umbrick.core.model.bounds import Bounds, Mask, Wave, spans_in
from umbrick.core.model.tight_frame import Samples, Spectra, TightFrame, power, window_length

FRAME_SECONDS = 0.085
"""Length of the frames that are best alone."""

_LIGHT, _DEEP = 0.08, 0.25
"""Shares of clipped samples between which the threshold's way changes."""

_LEAST = 1e-3
"""Where the threshold ends, as a share of the loudest bin nearby."""


class _Way(NamedTuple):
    """Where the threshold begins, as such a share, and its steps for each factor of ten: if little is clipped, and if
    much is."""

    tops: tuple[float, float]
    steps: tuple[float, float]


_FROM_NOTHING = _Way((0.3, 1.0), (24, 50))
_FROM_A_GUESS = _Way((0.02, 0.1), (20, 38))

_NEAR_FRAMES = 7
_MOST_WINDOWS = 64


def rebuild(
    wave: Wave,
    clipped: Mask,
    rate: int,
    frame_seconds: float = FRAME_SECONDS,
    lasting: bool = False,
    start: Wave | None = None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Wave:
    """Return the wave with its clipped samples from the sparsest spectrum that agrees with all that is known.

    All frames of a stretch are sought at once. A threshold falls from the loudest bin nearby to a thousandth of it;
    what lies under it is left out, and what that leaves unexplained is carried into the next step.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Not changed.
    clipped : ndarray of bool, shape (n,)
        Samples that stand on a rail. Others come back unchanged.
    rate : int
        Samples a second.
    frame_seconds : float
        Length of the frames, to the nearest power of two in samples.
    lasting : bool
        Whether tones are expected to last from frame to frame: a bin is then weighed together with those before and
        after it, and kept the more, the louder they are. Otherwise each bin is kept whole or not at all.
    start : ndarray, shape (n,), optional
        A first guess: the threshold begins far lower then, and much less is left to do.
    is_cancelled : callable
        Asked at each step; CancelledError is raised when it says so.

    References
    ----------
    S. Kitić, N. Bertin, R. Gribonval, "Sparsity and cosparsity for audio declipping: a flexible non-convex approach",
    2015, of which this is the analysis variant with a threshold in place of a count; the weighing by neighbours is the
    persistent empirical Wiener of K. Siedenburg, M. Kowalski, M. Dörfler, "Audio declipping with social sparsity",
    2014. That frames are solved together, and how the threshold falls, is ours.
    """
    bounds = Bounds.of(wave, clipped)
    result = np.asarray(wave, np.float64).copy()
    length = window_length(frame_seconds, rate)
    guess, way = (wave, _FROM_NOTHING) if start is None else (start, _FROM_A_GUESS)
    for begin, end in _stretches(clipped, length):
        first, last = max(0, begin - length), min(len(wave), end + length)
        scale = float(np.abs(wave[first:last]).max()) or 1.0
        # Beyond the ends of the wave nothing is known, least of all that it is silent there.
        beyond = (length - (begin - first), length - (last - end))
        part = np.pad(guess[first:last] / scale, beyond).astype(np.float32)
        low = np.pad(bounds.low[first:last] / scale, beyond, constant_values=-np.inf).astype(np.float32)
        high = np.pad(bounds.high[first:last] / scale, beyond, constant_values=np.inf).astype(np.float32)
        thresholds = _thresholds(float(clipped[begin:end].mean()), way)
        made = _solved(part, low, high, length, thresholds, lasting, is_cancelled)
        inside = made[length : length + end - begin] * scale
        result[begin:end] = np.where(clipped[begin:end], inside, wave[begin:end])
    return bounds.applied(result)


def _stretches(clipped: Mask, length: int) -> Iterator[tuple[int, int]]:
    """Yield stretches that no frame joins, cut between runs where they would grow too long."""
    starts, stops = spans_in(clipped)
    if not len(starts):
        return
    first = int(starts[0])
    for index in range(1, len(starts)):
        ends, begins = int(stops[index - 1]), int(starts[index])
        if begins - ends > length or begins - first > _MOST_WINDOWS * length:
            yield first, ends
            first = begins
    yield first, int(stops[-1])


def _thresholds(share: float, way: _Way) -> npt.NDArray[np.float64]:
    """Return how the threshold falls: from higher up and slower, the more is clipped."""
    depth = float(np.clip((share - _LIGHT) / (_DEEP - _LIGHT), 0.0, 1.0))
    top = float(np.exp(np.interp(depth, (0, 1), np.log(way.tops))))
    steps = float(np.interp(depth, (0, 1), way.steps))
    return np.geomspace(top, _LEAST, round(np.log10(top / _LEAST) * steps))


def _solved(
    wave: Samples,
    low: Samples,
    high: Samples,
    length: int,
    thresholds: npt.NDArray[np.float64],
    lasting: bool,
    is_cancelled: Callable[[], bool],
) -> Samples:
    """Split the wave into what is sparse and what passes the rails, by Douglas and Rachford's reflections."""
    frame = TightFrame(len(wave), length)
    state = frame.analysed(wave)
    loudest = maximum_filter1d(power(state).max(axis=1), _NEAR_FRAMES, mode="nearest")[:, np.newaxis]
    loudest = np.maximum(loudest, 1e-12 * loudest.max())
    left_out = np.empty_like(state)
    for threshold in thresholds:
        if is_cancelled():
            raise CancelledError
        least = loudest * np.float32(threshold**2)
        np.multiply(state, _left_out_lasting(state, least) if lasting else power(state) < least, out=left_out)
        # Twice what is kept, less the state: what is kept, less what is left out.
        state -= left_out
        state -= left_out
        wave = np.clip(frame.synthesised(state), low, high)
        state, left_out = left_out, state
        frame.add_analysed(wave, state)
    return wave


def _left_out_lasting(spectra: Spectra, least: Samples) -> Samples:
    """Return the share of each bin that is left out: the less, the louder it is together with both its neighbours."""
    own = power(spectra)
    around = own.copy()
    around[1:] += own[:-1]
    around[:-1] += own[1:]
    around[0] += own[0]
    around[-1] += own[-1]
    np.maximum(around, np.float32(1e-20), out=around)
    np.divide(3 * least, around, out=around)
    return np.minimum(around, np.float32(1), out=around)
