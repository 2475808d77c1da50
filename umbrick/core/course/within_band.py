"""Keeping what a step does within a band of frequencies."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt
import scipy

from umbrick.core.filters.windows import low_pass_taps
from umbrick.core.mend.parameters import band_of

Wave = npt.NDArray[np.float64]

_HALF_SECONDS = 0.02


def kernel(within_hz: str, rate: int) -> Wave | None:
    """Return the taps, an odd number, that let only a band written as ``LOW-HIGH`` through; None for all there is."""
    band = band_of(within_hz)
    return None if band is None else _taps(*band, rate)


def let_through(change: Wave, taps: Wave) -> Wave:
    """Return what taps let through of a change, shape ``(frames - len(taps) + 1, channels)``."""
    made: Wave = scipy.signal.fftconvolve(change, taps[:, np.newaxis], mode="valid", axes=0)
    return made


@lru_cache(maxsize=32)
def _taps(low_hz: float, high_hz: float, rate: int) -> Wave:
    count = 2 * round(_HALF_SECONDS * rate) + 1
    passed = np.zeros(count)
    if high_hz >= rate / 2:
        passed[count // 2] = 1.0
    else:
        passed += low_pass_taps(count, 2 * high_hz / rate)
    return passed - low_pass_taps(count, 2 * low_hz / rate) if low_hz > 0 else passed
