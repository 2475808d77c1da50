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


class Restart(NamedTuple):
    """Hops ``start`` to ``stop`` follow the pattern of those ``lag`` earlier, with this likeness (0 to 1)."""

    start: int
    stop: int
    lag: int
    likeness: float


def restarts(bands: Floats, hop: int, rate: int) -> list[Restart]:
    """Return where a pattern comes again, in hops of the bands.

    Parameters
    ----------
    bands : ndarray, shape (hops, bands)
        Of :mod:`fine_bands`, for a whole recording.
    hop, rate : int
        Frames of a hop, and frames a second.
    """
    group = max(1, round(_FRAME_SECONDS * rate / hop))
    count = len(bands) // group
    if count * group * hop < _FEWEST_SECONDS * rate:
        return []
    power = bands[: count * group].reshape(count, group, bands.shape[1]).mean(axis=1)
    used = power.max(axis=0) > 1e-12
    levels_db = 10 * np.log10(np.maximum(power[:, used], 1e-12))
    levels_db = np.maximum(levels_db, np.percentile(levels_db.max(axis=1), 95) - _FLOOR_DB).astype(np.float32)
    window = round(_WINDOW_SECONDS * rate / hop / group)
    mean = uniform_filter1d(levels_db, window, axis=0)
    liveliness = np.sqrt(uniform_filter1d(np.square(levels_db - mean).mean(axis=1), window))
    first, last = (round(s * rate / hop / group) for s in (_SHORTEST_LAG_SECONDS, _LONGEST_LAG_SECONDS))
    best = np.full(count, np.inf, np.float32)
    lags = np.zeros(count, np.int64)
    for lag in range(max(first, window), last + 1):
        distance = np.full(count, np.inf, np.float32)
        difference = np.square(levels_db[lag:] - levels_db[:-lag]).mean(axis=1)
        distance[lag:] = uniform_filter1d(difference, window)
        better = distance < best
        best[better], lags[better] = distance[better], lag
    # Against what two unrelated stretches of this sound that are as lively differ by.
    ratio = best / np.maximum(2 * liveliness**2, 1e-6)
    found = (ratio < _ALIKE) & (liveliness > _LEAST_LIVELINESS_DB)
    edges = np.flatnonzero(np.diff(found, prepend=False, append=False))
    half = window // 2
    return [
        Restart(
            max(0, a - half) * group,
            min(count, b + half) * group,
            int(lags[a + int(np.argmin(ratio[a:b]))]) * group,
            float(1 - ratio[a:b].min()),
        )
        for a, b in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True)
        if b - a >= 3
    ]
