"""What linear prediction cannot explain of a channel: shared by the detectors that look for short damage.

Sound that resonates is predictable from what is beside it; a click, a hole's edge or a cut is not. The predictor of
each segment of about 20 ms is that of its Hann-windowed surroundings (autocorrelation method); the residual is
predicted from both sides, which gathers all that a single wrong sample leaves into that sample.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, rfft

from umbrick.core.filters.windows import hann
from umbrick.core.survey.detector import Block

Floats = npt.NDArray[np.float32]

MARGIN_SEGMENTS = 4
"""Segments ahead of and after a block that the residual goes on for."""

BINS_PER_SEGMENT = 64

_SEGMENT_SECONDS = 0.0214
_QUIETEST = 1e-6
"""Amplitude of the white noise that is thought under any sound: digital silence has no predictor."""


def segment_frames(rate: int) -> int:
    """Return the frames of a segment: the power of two nearest to 21.4 ms, at least 64."""
    return max(64, 1 << round(np.log2(rate * _SEGMENT_SECONDS)))


def order_for(rate: int) -> int:
    """Return how many samples the predictor looks back: about two for each kHz of the band, and some."""
    return int(np.clip(rate // 1500, 8, 32))


@dataclass(frozen=True, eq=False)
class Residual:
    """The residual of one channel of a block and of what is around it, and the wave beneath it.

    ``first`` is the frame of the recording with which ``wave`` and ``error`` begin. ``error`` is scaled so that noise
    has the level of the one-sided prediction error; a single wrong sample of height ``h`` stands in it with
    ``h · gain`` of its segment. ``power`` has a row of a Hann-windowed spectrum, two segments long, for each segment.
    """

    first: int
    segment: int
    wave: Floats
    error: Floats
    gain: Floats
    power: Floats
    predictor: npt.NDArray[np.float64]
    """For each segment its prediction error filter."""
    peaks: Floats
    """The highest absolute error in each bin of ``bin_frames``."""

    @property
    def bin_frames(self) -> int:
        """The frames of a bin: a third of a millisecond, at least one frame."""
        return self.segment * len(self.gain) // len(self.peaks)

    def responses(self, indices: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
        """Return what a single wrong sample at each index leaves, from its place outward, the first being 1."""
        rows = self.predictor[np.minimum(indices // self.segment, len(self.predictor) - 1)]
        lags = _autocorrelation(rows)
        return np.asarray(lags / np.maximum(lags[:, :1], 1e-12))


def residuals(block: Block) -> list[Residual]:
    """Return the residual of every channel of a block.

    References
    ----------
    Prediction: N. Levinson, 1946, and J. Durbin, 1960. From both sides: S. V. Vaseghi, P. J. W. Rayner, "Detection and
    suppression of impulsive noise in speech communication systems", 1990 (the matched filter for impulses).
    """
    return [_residual(block, channel) for channel in range(block.samples.shape[1])]


def _residual(block: Block, channel: int) -> Residual:
    segment, order = segment_frames(block.rate), order_for(block.rate)
    first = block.start - MARGIN_SEGMENTS * segment
    count = -(-(block.stop - block.start) // segment) + 2 * MARGIN_SEGMENTS
    half = segment // 2
    wave = _around(block, channel, first - half, first + count * segment + half)
    frames = np.lib.stride_tricks.sliding_window_view(wave, 2 * segment)[::segment]
    windowed = rfft(frames * _hann(2 * segment), axis=1)
    power = np.square(windowed.real) + np.square(windowed.imag)
    predictor = _predictors(power, order)
    # The predictor and its mirror image in turn are one filter without phase: the square of its response.
    lags = _autocorrelation(predictor)
    gain = np.sqrt(lags[:, 0])
    both = (lags / gain[:, np.newaxis]) @ _of_lags(segment + 1, order)
    spectrum = rfft(frames, axis=1)
    spectrum *= both.astype(np.float32)
    errors = irfft(spectrum, axis=1)
    errors *= _crossfade(segment, 2 * order)
    error = np.zeros((count + 1, segment), np.float32)
    error[:-1] = errors[:, :segment]
    error[1:] += errors[:, segment:]
    inner = slice(half, half + count * segment)
    gain = gain.astype(np.float32)
    error = error.reshape(-1)[inner].copy()
    peaks = _highest(error, max(1, segment // BINS_PER_SEGMENT))
    return Residual(first, segment, wave[inner], error, gain, power, predictor, peaks)


def _highest(error: Floats, size: int) -> Floats:
    """Return the highest absolute value of each ``size``, a power of two."""
    peaks = np.abs(error)
    while size > 1:
        peaks, size = np.maximum(peaks[::2], peaks[1::2]), size // 2
    return peaks


@lru_cache(maxsize=8)
def _hann(frames: int) -> Floats:
    return hann(frames).astype(np.float32)


@lru_cache(maxsize=8)
def _crossfade(segment: int, apart: int) -> Floats:
    """Return the weights with which frames two segments long go over into one another.

    Their ends, which a filter of ``apart`` frames wraps around, count nothing; at their middle, only they count. Where
    one predictor were exchanged for the next at once, its misfit would look like damage.
    """
    ramp = np.ones(segment, np.float32)
    rise = np.linspace(0, np.pi / 2, segment - 2 * apart, dtype=np.float32)
    ramp[:apart] = 0
    ramp[apart : segment - apart] = np.sin(rise) ** 2
    return np.concatenate([ramp, 1 - ramp])


def _around(block: Block, channel: int, start: int, stop: int) -> Floats:
    """Return frames of a block's channel, zeros where there are none."""
    have = block.start - block.before, block.start - block.before + len(block.samples)
    left, right = max(start, have[0]), min(stop, have[1])
    wave = np.zeros(stop - start, np.float32)
    wave[left - start : right - start] = block.samples[left - have[0] : right - have[0], channel]
    return wave


@lru_cache(maxsize=8)
def _cosines(bins: int, order: int) -> npt.NDArray[np.float64]:
    """Return the cosines of the first lags at the bins of a spectrum, shape ``(order + 1, bins)``."""
    return np.asarray(np.cos(np.outer(np.arange(order + 1), np.arange(bins)) * (np.pi / (bins - 1))))


@lru_cache(maxsize=8)
def _of_lags(bins: int, order: int) -> npt.NDArray[np.float64]:
    """Return the matrix that makes a power spectrum of the first lags of an autocorrelation."""
    weights = np.full((order + 1, 1), 2.0)
    weights[0] = 1.0
    return np.asarray(weights * _cosines(bins, order))


@lru_cache(maxsize=8)
def _of_power(bins: int, order: int) -> npt.NDArray[np.float64]:
    """Return the matrix that makes the first lags of an autocorrelation of a power spectrum."""
    weights = np.full(bins, 2.0)
    weights[[0, -1]] = 1.0
    return np.asarray(weights * _cosines(bins, order))


def _autocorrelation(rows: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return the autocorrelation of each row, from lag 0 on."""
    size = 2 * rows.shape[1]
    spectrum = rfft(rows, size, axis=1)
    return np.asarray(irfft(np.square(spectrum.real) + np.square(spectrum.imag), size, axis=1)[:, : rows.shape[1]])


def _predictors(power: Floats, order: int) -> npt.NDArray[np.float64]:
    """Return the prediction error filters of spectra, shape ``(spectra, order + 1)``."""
    bins = power.shape[1]
    lags = _of_power(bins, order) @ power.astype(np.float64).T
    size = 2 * (bins - 1)
    lags[0] = lags[0] * (1 + 1e-9) + size * size * 0.375 * _QUIETEST**2
    predictor = np.zeros((order + 1, len(power)))
    predictor[0] = 1.0
    error = lags[0].copy()
    for step in range(1, order + 1):
        reflection = -(predictor[:step] * lags[step:0:-1]).sum(axis=0) / error
        predictor[1 : step + 1] += reflection * predictor[step - 1 :: -1][:step]
        error *= np.maximum(1 - reflection**2, 1e-9)
    return np.ascontiguousarray(predictor.T)
