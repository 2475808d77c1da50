"""What still sounds in a hole: a remnant of the sound beside it, or another sound.

A bad contact leaves the same sound, only fainter: at both edges of its colour, and by as many dB. Between lips that
closed, a drop of rain and the next, one hand and the other, something else is heard. No published method is followed.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

_EDGE_SECONDS, _BESIDE_SECONDS = 0.0004, 0.008
_FEWEST = 8
_MOST_DB = 20.0


def unlike_beside_db(wave: npt.NDArray[np.float32], start: int, stop: int, rate: int) -> float:
    """Return how unlike what is left in a hole is to the sound right beside it, in dB: how much its brightness differs
    at either edge, and how far the one lies below what is beside it from how far the other does. 0 dB is nothing, which
    is also said of holes too short to tell.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    start, stop : int
        The hole.
    rate : int
    """
    edge = max(2, round(_EDGE_SECONDS * rate))
    within = wave[start + edge : stop - edge].astype(np.float64)
    frames = max(min(len(within) // 2, round(_BESIDE_SECONDS * rate)), _FEWEST)
    before = wave[max(0, start - edge - frames) : start - edge].astype(np.float64)
    after = wave[stop + edge : stop + edge + frames].astype(np.float64)
    if min(len(within), len(before), len(after)) < _FEWEST:
        return 0.0
    first, last = within[:frames], within[-frames:]
    falls = _level_db(before) - _level_db(first), _level_db(after) - _level_db(last)
    apart = (
        _brightness_db(first) - _brightness_db(before),
        _brightness_db(last) - _brightness_db(after),
        falls[0] - falls[1],
    )
    return float(np.minimum(np.abs(apart), _MOST_DB).sum())


def _brightness_db(wave: npt.NDArray[np.float64]) -> float:
    """Return the power of a stretch's slope beside its own."""
    return _db(float(np.square(np.diff(wave)).sum())) - _db(float(np.square(wave - wave.mean()).sum()))


def _level_db(wave: npt.NDArray[np.float64]) -> float:
    return _db(float(np.square(wave).mean()))


def _db(power: float) -> float:
    return 10 * float(np.log10(power + 1e-14))
