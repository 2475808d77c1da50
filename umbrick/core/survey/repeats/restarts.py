"""Restarts: a speaker who begins a word again. It looks like a stutter of the line, and must not be taken for one.

What comes again is the pattern of the bands, not the samples: a mouth never says the same twice.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import uniform_filter1d

Floats = npt.NDArray[np.float32]

_FRAME_SECONDS = 0.0107
_WINDOW_SECONDS = 0.24
_SHORTEST_LAG_SECONDS, _LONGEST_LAG_SECONDS = 0.2, 0.9
_FLOOR_DB = 45.0
_LEAST_LIVELINESS_DB = 5.0
_ALIKE = 0.16
_FEWEST_SECONDS = 4.0
_AT_ONCE = 1 << 14
"""Rows that are compared at once: hours are gone through in parts."""


class Restart(NamedTuple):
    """Rows ``start`` to ``stop`` follow the pattern of those ``lag`` earlier, with this likeness (0 to 1)."""

    start: int
    stop: int
    lag: int
    likeness: float


def hops_of_a_row(hop: int, rate: int) -> int:
    """Return how many hops of ``hop`` frames make one row of a pattern: about 10.7 ms."""
    return max(1, round(_FRAME_SECONDS * rate / hop))


def pattern(bands: Floats, hops: int) -> Floats:
    """Return the bands of :mod:`fine_bands` in rows of so many hops; what is left at the end is dropped."""
    return np.asarray(bands[: len(bands) // hops * hops].reshape(-1, hops, bands.shape[1]).mean(axis=1))


def restarts(power: Floats, frames: int, rate: int) -> list[Restart]:
    """Return where a pattern comes again, in rows of it.

    Parameters
    ----------
    power : ndarray, shape (rows, bands)
        The :func:`pattern` of a whole recording.
    frames, rate : int
        Frames of a row, and frames a second.
    """
    count = len(power)
    if count * frames < _FEWEST_SECONDS * rate:
        return []
    used = power.max(axis=0) > 1e-12
    floor_db = np.percentile(10 * np.log10(np.maximum(power[:, used].max(axis=1, initial=0.0), 1e-12)), 95) - _FLOOR_DB
    window = round(_WINDOW_SECONDS * rate / frames)
    first, last = (round(s * rate / frames) for s in (_SHORTEST_LAG_SECONDS, _LONGEST_LAG_SECONDS))
    margin = last + 2 * window
    unlike = np.empty(count, np.float32)
    lags = np.empty(count, np.int32)
    for begin in range(0, count, _AT_ONCE):
        low = max(0, begin - margin)
        levels_db = 10 * np.log10(np.maximum(power[low : begin + _AT_ONCE + margin, used], 1e-12))
        own = slice(begin - low, begin - low + min(_AT_ONCE, count - begin))
        found = _unlike(np.maximum(levels_db, floor_db).astype(np.float32), window, range(max(first, window), last + 1))
        unlike[begin : begin + _AT_ONCE], lags[begin : begin + _AT_ONCE] = (values[own] for values in found)
    edges = np.flatnonzero(np.diff(unlike < _ALIKE, prepend=False, append=False))
    half = window // 2
    return [
        Restart(
            max(0, a - half),
            min(count, b + half),
            int(lags[a + int(np.argmin(unlike[a:b]))]),
            float(1 - unlike[a:b].min()),
        )
        for a, b in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True)
        if b - a >= 3
    ]


def _unlike(levels_db: Floats, window: int, lags: range) -> tuple[Floats, npt.NDArray[np.int64]]:
    """Return how unlike each row's surroundings are to those that are most like them, one of some lags earlier, as a
    share of what two unrelated stretches of this sound that are as lively differ by, and that lag; infinity where
    little happens."""
    count = len(levels_db)
    mean = uniform_filter1d(levels_db, window, axis=0)
    liveliness = np.sqrt(uniform_filter1d(np.square(levels_db - mean).mean(axis=1), window))
    best = np.full(count, np.inf, np.float32)
    best_lags = np.zeros(count, np.int64)
    for lag in lags:
        distance = np.full(count, np.inf, np.float32)
        distance[lag:] = uniform_filter1d(np.square(levels_db[lag:] - levels_db[:-lag]).mean(axis=1), window)
        better = distance < best
        best[better], best_lags[better] = distance[better], lag
    ratio = best / np.maximum(2 * liveliness**2, 1e-6)
    return np.where(liveliness > _LEAST_LIVELINESS_DB, ratio, np.float32(np.inf)), best_lags
