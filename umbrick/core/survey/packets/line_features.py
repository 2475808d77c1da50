"""What a network listens to for lost packets: levels in narrow bands and how alike pitch cycles are, every 5 ms."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy.fft import next_fast_len, rfft

from umbrick.core.filters.windows import hann
from umbrick.core.model.cycles import best_cycles
from umbrick.core.sound.decimation import decimated
from umbrick.core.survey.detector import Block
from umbrick.core.survey.levels.fine_bands import hop_frames

Floats = npt.NDArray[np.float32]

BANDS = 16
FEATURES = BANDS + 4
"""Columns of what is measured: bands, the level of all, likeness of cycles in two forms, and their length."""

_LOW_RATE = 8000
_TAPS_PER_STEP = 8
_WINDOW_SECONDS = 0.016
_SHORTEST_LAG_SECONDS, _LONGEST_LAG_SECONDS = 0.0024, 0.0165
_LOWEST_HZ, _HIGHEST_HZ = 80.0, 3400.0
_FLOOR = 1e-11
"""Power of what counts as silence: 110 dB below full scale."""

_ROWS_AT_ONCE = 128


def line_features(block: Block) -> Floats:
    """Return the features of each hop of a block, of ``hop_frames(rate)``, shape ``(hops, FEATURES)``.

    Levels are in units of 10 dB. Where a window would reach before the recording begins or after it ends, it is
    silent there.
    """
    rate, hop = block.rate, hop_frames(block.rate)
    step = max(1, rate // _LOW_RATE)
    size, reach = round(_WINDOW_SECONDS * rate / step), round(_LONGEST_LAG_SECONDS * rate / step)
    shortest = round(_SHORTEST_LAG_SECONDS * rate / step)
    count = -(-(block.stop - block.start) // hop)
    # Both the lower rate's values and the windows lie where they would in any other block.
    ahead, behind = reach + size, size + _TAPS_PER_STEP
    first = block.start // step - ahead - _TAPS_PER_STEP
    last = -(-(block.start + count * hop) // step) + behind
    low = decimated(_stretch(block, first * step, last * step), step, _TAPS_PER_STEP)
    middles = np.round((block.start + np.arange(count) * hop) / step).astype(np.int64) - first
    segments = np.lib.stride_tricks.sliding_window_view(low, size + reach)
    features = np.empty((count, FEATURES), np.float32)
    for row in range(0, count, _ROWS_AT_ONCE):
        rows = slice(row, row + _ROWS_AT_ONCE)
        some = segments[middles[rows] - size // 2 - reach]
        features[rows, : BANDS + 1] = _levels(some[:, reach:], rate / step)
        features[rows, BANDS + 1 :] = _cycles(some, reach, shortest)
    return features


def _stretch(block: Block, start: int, stop: int) -> Floats:
    """Return frames of the recording, silent where the block does not reach."""
    begin = block.start - block.before
    wave = block.mono[max(0, start - begin) : max(0, stop - begin)]
    left = max(0, begin - start)
    return np.pad(wave, (left, stop - start - left - len(wave)))


def _levels(windows: Floats, rate: float) -> Floats:
    size = windows.shape[1]
    length = next_fast_len(2 * size, real=True)
    spectrum = rfft(windows * _window(size), length, axis=1)
    power = np.square(spectrum.real) + np.square(spectrum.imag)
    bands = power @ _shares(size, length, rate)
    return np.log10(bands + np.float32(_FLOOR))


def _cycles(segments: Floats, reach: int, shortest: int) -> Floats:
    """Return the best normalised correlation with what came a cycle before, the same as the share that is unlike in
    units of 10 dB, and the cycle's length as a share of the longest."""
    size = segments.shape[1] - reach
    sums = np.zeros((len(segments), segments.shape[1] + 1), np.float32)
    np.cumsum(np.square(segments), axis=1, out=sums[:, 1:])
    energies = sums[:, size : size + reach] - sums[:, :reach]
    mine = sums[:, -1:] - sums[:, reach : reach + 1]
    cycles = best_cycles(segments, energies * mine, shortest, np.float32((size * _FLOOR) ** 2))
    likeness = np.clip(cycles.likeness, 0.0, 1.0)
    unlike = np.log10(np.maximum(1 - np.square(likeness), 1e-4))
    return np.stack([likeness, -unlike, cycles.lag / reach], axis=1).astype(np.float32)


@lru_cache(maxsize=8)
def _window(size: int) -> Floats:
    return hann(size).astype(np.float32)


@lru_cache(maxsize=8)
def _shares(size: int, length: int, rate: float) -> Floats:
    """Return what each bin adds to the mean power of each band, evenly wide in mel, and of all, ``(bins, bands + 1)``.

    References
    ----------
    The scale of pitch is the mel (S. S. Stevens and J. Volkmann, 1940), in the usual formula of D. O'Shaughnessy.
    """
    lowest, highest = 1127 * np.log1p(np.array([_LOWEST_HZ, _HIGHEST_HZ]) / 700)
    edges = 700 * np.expm1(np.linspace(lowest, highest, BANDS + 2) / 1127)
    hz = np.fft.rfftfreq(length, 1 / rate)[:, np.newaxis]
    rising = (hz - edges[:-2]) / (edges[1:-1] - edges[:-2])
    falling = (edges[2:] - hz) / (edges[2:] - edges[1:-1])
    shares = np.maximum(0.0, np.minimum(rising, falling))
    shares = np.concatenate([shares, shares.sum(axis=1, keepdims=True)], axis=1)
    return (shares / (0.375 * size * length / 2)).astype(np.float32)
