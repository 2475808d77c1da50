"""Levels in a few wide bands every five milliseconds: shared by the detectors that listen to a voice."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft
from scipy.signal import get_window

from umbrick.core.survey.detector import Block

Floats = npt.NDArray[np.float32]

EDGES_HZ = (60.0, 300.0, 1000.0, 2500.0, 4500.0, 9000.0, 20000.0)
"""Bounds of the bands, from the lowest to the highest."""

_HOP_SECONDS = 0.00534


def hop_frames(rate: int) -> int:
    """Return the frames from one value to the next: the power of two next below 5.3 ms, at least 16."""
    return max(16, 1 << int(np.log2(rate * _HOP_SECONDS)))


def fine_bands(block: Block) -> Floats:
    """Return the mean power in each band, over all channels, of windows two hops long about each hop of a block.

    The shape is ``(hops, bands)``; bands above half the rate are empty.
    """
    hop = hop_frames(block.rate)
    count = -(-(block.stop - block.start) // hop)
    wave = block.samples.mean(axis=1) if block.samples.shape[1] > 1 else block.samples[:, 0]
    half = hop // 2
    left = max(0, half - block.before)
    right = max(0, block.before + count * hop + half - len(wave))
    wave = np.pad(wave, (left, right))
    first = block.before + left - half
    frames = np.lib.stride_tricks.sliding_window_view(wave[first : first + count * hop + hop], 2 * hop)[::hop]
    spectrum = rfft(frames * get_window("hann", 2 * hop).astype(np.float32), axis=1)
    power = np.square(spectrum.real) + np.square(spectrum.imag)
    borders = np.searchsorted(np.fft.rfftfreq(2 * hop, 1 / block.rate), EDGES_HZ)
    scale = np.float32(1 / (0.375 * (2 * hop) ** 2 / 2))
    return np.stack([power[:, a:b].sum(axis=1) * scale for a, b in pairwise(borders.tolist())], axis=1)
