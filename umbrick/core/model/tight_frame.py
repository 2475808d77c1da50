"""A wave as overlapping windowed spectra that hold just what the wave holds, and back."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, rfft

from umbrick.core.filters.windows import hann

Samples = npt.NDArray[np.float32]
Spectra = npt.NDArray[np.complex64]

_AT_ONCE = 16
"""Frames transformed together: few enough to stay in the processor's cache."""


class TightFrame:
    """Analysis and synthesis of waves of one length, each the other's transpose.

    Synthesis of an analysis is the wave itself, and an analysis has the wave's energy. Outside its ends the wave is
    silent.

    Parameters
    ----------
    samples : int
        Length of the waves, at least 1.
    length : int
        Length of a window, a power of two; the windows overlap by half.

    References
    ----------
    I. Daubechies, A. Grossmann, Y. Meyer, "Painless nonorthogonal expansions", 1986.
    """

    def __init__(self, samples: int, length: int) -> None:
        self.length = length
        self.hop = length // 2
        self._samples = samples
        self.count = (samples + self.hop - 1) // self.hop + 1
        self._window: Samples = np.sqrt(hann(length)).astype(np.float32)
        self._padded: Samples = np.zeros((self.count - 1) * self.hop + length, np.float32)
        self._windows = np.lib.stride_tricks.sliding_window_view(self._padded, length)[:: self.hop]
        self._hops = self._padded.reshape(self.count + 1, self.hop)

    def analysed(self, wave: Samples) -> Spectra:
        """Return the spectra of a wave of shape ``(samples,)``: shape ``(count, length // 2 + 1)``, orthonormal."""
        spectra = np.zeros((self.count, self.length // 2 + 1), np.complex64)
        self.add_analysed(wave, spectra)
        return spectra

    def add_analysed(self, wave: Samples, spectra: Spectra) -> None:
        """Add a wave's spectra to others."""
        self._padded[:] = 0
        self._padded[self.hop : self.hop + self._samples] = wave
        for first in range(0, self.count, _AT_ONCE):
            part = slice(first, first + _AT_ONCE)
            spectra[part] += rfft(self._windows[part] * self._window, norm="ortho")

    def synthesised(self, spectra: Spectra) -> Samples:
        """Return the wave that spectra of shape ``(count, length // 2 + 1)`` add up to."""
        self._padded[:] = 0
        for first in range(0, self.count, _AT_ONCE):
            frames = irfft(spectra[first : first + _AT_ONCE], self.length, norm="ortho")
            frames *= self._window
            stop = first + len(frames)
            self._hops[first:stop] += frames[:, : self.hop]
            self._hops[first + 1 : stop + 1] += frames[:, self.hop :]
        return self._padded[self.hop : self.hop + self._samples].copy()


def power(spectra: Spectra) -> Samples:
    """Return the squared magnitude of each bin."""
    return np.asarray(spectra.real**2 + spectra.imag**2, np.float32)


def steadiness(wave: npt.NDArray[np.float64], rate: int, seconds: float = 0.085) -> float:
    """Return how much of the sound is still there half a frame later: near 1 for held tones, less for speech and drums.

    It is the mean over time of the likeness of neighbouring spectra (Bhattacharyya, 1943), weighted by their power;
    0 for sounds too short to tell.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    rate : int
        Samples a second.
    seconds : float
        Length of a frame, to the nearest power of two in samples.
    """
    frame = TightFrame(len(wave), window_length(seconds, rate))
    powers = power(frame.analysed(wave.astype(np.float32)))[1:-1].astype(np.float64)
    total = powers.sum()
    if len(powers) < 3 or total <= 0:
        return 0.0
    shared = np.sqrt(powers[1:] * powers[:-1]).sum()
    return float(shared / total * len(powers) / (len(powers) - 1))


def window_length(seconds: float, rate: int) -> int:
    """Return the power of two that is nearest to so many seconds in samples."""
    return 1 << max(4, round(np.log2(seconds * rate)))
