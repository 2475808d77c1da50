"""Declipping by a smooth curve: fast, and good where only the very tops are missing."""

from __future__ import annotations

import numpy as np

from umbrick.core.model.bounds import Bounds, Mask, Wave, spans_in

_SHORT, _LONG = 8, 32
_LONG_SLOPE = 0.7
"""Over long gaps the wave turns sooner than its slope at the edges suggests; it is taken to be this much flatter."""


def rebuild(wave: Wave, clipped: Mask) -> Wave:
    """Return the wave with each run of clipped samples on a cubic that goes on with the slopes of both sides.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Not changed.
    clipped : ndarray of bool, shape (n,)
        Samples that stand on a rail; rebuilt values are at least as far from zero. Others come back unchanged.

    References
    ----------
    C. Hermite's cubic between two points with given slopes (1878). That long gaps get flatter slopes is ours.
    """
    result = wave.copy()
    starts, stops = spans_in(clipped)
    if len(starts):
        last = len(wave) - 1
        # A run at the very end of the sound has one side only, which then stands for both.
        left = np.where(starts > 0, starts - 1, np.minimum(stops, last))
        right = np.where(stops <= last, stops, np.maximum(starts - 1, 0))
        slope_in = wave[left] - wave[np.maximum(left - 1, 0)]
        slope_out = wave[np.minimum(right + 1, last)] - wave[right]
        span = stops - starts + 1
        flatness = np.interp(span, (_SHORT, _LONG), (1.0, _LONG_SLOPE))
        index = np.flatnonzero(clipped)
        run = np.repeat(np.arange(len(starts)), stops - starts)
        t = (index - starts[run] + 1) / span[run]
        bend = (span * flatness)[run]
        result[index] = (
            (2 * t**3 - 3 * t**2 + 1) * wave[left][run]
            + (t**3 - 2 * t**2 + t) * bend * slope_in[run]
            + (3 * t**2 - 2 * t**3) * wave[right][run]
            + (t**3 - t**2) * bend * slope_out[run]
        )
    return Bounds.of(wave, clipped).applied(result)
