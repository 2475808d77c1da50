"""A short-time Fourier transform for changing sound in time and frequency, and sound from it again."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt
import scipy.fft

from umbrick.core.areas.shapes import Cells
from umbrick.core.filters.windows import hann
from umbrick.core.spectral.grid import size_for

Wave = npt.NDArray[np.float64]
Spectra = npt.NDArray[np.complex128]

OVERLAP = 4
"""How many windows lie over every sample."""

_LEAST_SIZE = 64


class ShortTime:
    """Hann windows of ``size`` samples, a quarter of that apart, before and after: what is changed in the spectra
    leaks little to other frequencies and shows no edges in time.

    Row *r* of the spectra of a wave has its middle at frame ``r * hop`` of it.

    References
    ----------
    J. B. Allen, "Short term spectral analysis, synthesis, and modification by discrete Fourier transform", 1977;
    D. W. Griffin, J. S. Lim, "Signal estimation from modified short-time Fourier transform", 1984.
    """

    def __init__(self, size: int) -> None:
        self.size, self.hop = size, size // OVERLAP
        self.window = _window(size)

    @classmethod
    def lasting(cls, seconds: float, rate: int) -> ShortTime:
        """Return the transform whose windows last nearest to so many seconds, of at least 64 frames."""
        return cls(max(_LEAST_SIZE, size_for(seconds, rate)))

    def rows(self, frames: int) -> int:
        """Return how many windows a wave of so many frames takes."""
        return -(-frames // self.hop) + 1

    def cells(self, frames: int, rate: int, first: float = 0.0) -> Cells:
        """Return the grid of the spectra of a wave whose first sample is at frame ``first``."""
        return Cells(first, self.hop, self.rows(frames), rate / self.size, self.size // 2 + 1)

    def spectra(self, wave: Wave) -> Spectra:
        """Return the spectra of a wave, shape ``(rows, size // 2 + 1)``; there is silence beyond its ends."""
        rows = self.rows(len(wave))
        tail = (rows - 1) * self.hop + self.size // 2 - len(wave)
        padded = np.pad(wave, (self.size // 2, max(0, tail)))
        windows = np.lib.stride_tricks.sliding_window_view(padded, self.size)[:: self.hop][:rows]
        made: Spectra = scipy.fft.rfft(windows * self.window, axis=1)
        return made

    def sound(self, spectra: Spectra, frames: int) -> Wave:
        """Return so many frames of the wave that has these spectra, or comes nearest to having them."""
        windows = scipy.fft.irfft(spectra, self.size, axis=1) * self.window
        rows, hop = len(windows), self.hop
        laid = np.zeros((rows + OVERLAP - 1, hop))
        weight = np.zeros((rows + OVERLAP - 1, hop))
        for part in range(OVERLAP):
            laid[part : part + rows] += windows[:, part * hop : (part + 1) * hop]
            weight[part : part + rows] += np.square(self.window[part * hop : (part + 1) * hop])
        begin = self.size // 2
        made = (laid / np.maximum(weight, 1e-9)).reshape(-1)
        return np.asarray(made[begin : begin + frames])


@lru_cache(maxsize=16)
def _window(size: int) -> Wave:
    return hann(size)
