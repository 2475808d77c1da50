"""Peak, true peak and noise floor, measured block by block."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.band_limited import CURVE_CONTEXT, band_limited
from umbrick.core.units import SILENCE_DBFS, amplitude_to_db

_OVERSAMPLING = 4
_SLOT = 64
_MOST_SLOTS = 64
_OVERSHOOT = 0.7
"""A wave passes its samples by up to 3 dB in practice: slots lower than this share of the peak cannot matter."""

_FLOOR_SECONDS = 0.05
_FLOOR_PERCENTILE = 10


@dataclass(frozen=True, slots=True)
class Levels:
    """What a level meter has shown: absolute amplitudes, and the floor in dBFS."""

    peak: float
    true_peak: float
    noise_floor_dbfs: float


class LevelMeter:
    """Collects levels; every channel counts.

    References
    ----------
    True peak: Recommendation ITU-R BS.1770-4, annex 2, 2015 (four times oversampled).
    """

    def __init__(self, rate: int, channels: int) -> None:
        self._frame = max(1, round(_FLOOR_SECONDS * rate))
        self._left = np.zeros((0, channels), np.float32)
        self._energies: list[npt.NDArray[np.float32]] = []
        self.peak = 0.0
        self.true_peak = 0.0

    def feed(self, samples: npt.NDArray[np.float32]) -> None:
        """Measure the samples, of shape ``(frames, channels)``, that follow the last ones."""
        if not len(samples):
            return
        for channel in range(samples.shape[1]):
            self._find_peaks(np.ascontiguousarray(samples[:, channel]))
        samples = np.concatenate([self._left, samples])
        whole = len(samples) // self._frame * self._frame
        frames = samples[:whole].reshape(-1, self._frame * samples.shape[1])
        self._energies.append(np.einsum("fk,fk->f", frames, frames) / np.float32(frames.shape[1]))
        self._left = samples[whole:].copy()

    def levels(self) -> Levels:
        """Return what has been shown so far."""
        return Levels(self.peak, self.true_peak, self.noise_floor_dbfs)

    @property
    def noise_floor_dbfs(self) -> float:
        """RMS level that nine tenths of the 50 ms frames exceed, digital silence left out."""
        energies = np.concatenate(self._energies) if self._energies else np.zeros(0, np.float32)
        energies = energies[energies > 0]
        if not len(energies):
            return SILENCE_DBFS
        return amplitude_to_db(float(np.sqrt(np.percentile(energies, _FLOOR_PERCENTILE))))

    def _find_peaks(self, wave: npt.NDArray[np.float32]) -> None:
        whole = len(wave) // _SLOT * _SLOT
        size = np.abs(wave)
        peaks = size[:whole].reshape(-1, _SLOT).max(axis=1)
        if whole < len(wave):
            peaks = np.append(peaks, size[whole:].max())
        self.peak = max(self.peak, float(peaks.max()))
        self.true_peak = max(self.true_peak, self.peak)
        chosen = np.flatnonzero(peaks >= _OVERSHOOT * self.true_peak) if self.peak > 0 else peaks[:0].astype(np.int64)
        if not len(chosen):
            return
        chosen = chosen[np.argsort(peaks[chosen])[-_MOST_SLOTS:]]
        padded = np.pad(wave, (CURVE_CONTEXT, CURVE_CONTEXT + _SLOT))
        slots = np.lib.stride_tricks.sliding_window_view(padded, _SLOT + 2 * CURVE_CONTEXT)[chosen * _SLOT]
        curve = band_limited(slots.T, _OVERSAMPLING)[CURVE_CONTEXT * _OVERSAMPLING : -CURVE_CONTEXT * _OVERSAMPLING]
        self.true_peak = max(self.true_peak, float(np.abs(curve).max()))
