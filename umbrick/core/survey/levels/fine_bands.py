"""Levels in a few wide bands every five milliseconds: shared by the detectors that listen to a voice."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft

from umbrick.core.filters.windows import hann
from umbrick.core.survey.detector import Block

Floats = npt.NDArray[np.float32]

EDGES_HZ = (60.0, 300.0, 1000.0, 2500.0, 4500.0, 9000.0, 20000.0)
"""Bounds of the bands, from the lowest to the highest."""

_HOP_SECONDS = 0.00534
_ROWS_AT_ONCE = 128
"""So that they stay in a processor's cache."""


def hop_frames(rate: int) -> int:
    """Return the frames from one value to the next: the power of two nearest to 5.3 ms, at least 16."""
    return max(16, 1 << round(np.log2(rate * _HOP_SECONDS)))


def fine_bands(block: Block) -> Floats:
    """Return the mean power in each band, over all channels, of windows two hops long about each hop of a block.

    The shape is ``(hops, bands)``; bands above half the rate are empty.
    """
    hop = hop_frames(block.rate)
    count = -(-(block.stop - block.start) // hop)
    wave, half = block.mono, hop // 2
    left = max(0, half - block.before)
    right = max(0, block.before + count * hop + half - len(wave))
    if left or right:
        wave = np.pad(wave, (left, right))
    first = block.before + left - half
    frames = np.lib.stride_tricks.sliding_window_view(wave[first : first + count * hop + hop], 2 * hop)[::hop]
    window, shares = _window(hop), _shares(hop, block.rate)
    bands = np.empty((count, shares.shape[1]), np.float32)
    for row in range(0, count, _ROWS_AT_ONCE):
        rows = slice(row, row + _ROWS_AT_ONCE)
        spectrum = rfft(frames[rows] * window, axis=1)
        bands[rows] = (np.square(spectrum.real) + np.square(spectrum.imag)) @ shares
    return bands


@lru_cache(maxsize=8)
def _window(hop: int) -> Floats:
    return hann(2 * hop).astype(np.float32)


@lru_cache(maxsize=8)
def _shares(hop: int, rate: int) -> Floats:
    """Return what each bin's power adds to the mean power of each band, shape ``(bins, bands)``."""
    hz = np.fft.rfftfreq(2 * hop, 1 / rate)[:, np.newaxis]
    within = (hz >= EDGES_HZ[:-1]) & (hz < EDGES_HZ[1:])
    return within.astype(np.float32) / np.float32(0.375 * (2 * hop) ** 2 / 2)
