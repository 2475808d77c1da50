"""A grid of overlapping windows over a recording, their spectra, and sound from spectra again."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt
import scipy.fft

Wave = npt.NDArray[np.float32]
Spectra = npt.NDArray[np.complex64]

OVERLAP = 2
"""How many windows lie over every sample."""


class Grid:
    """Windows of ``size`` samples, of which one begins at every multiple of ``hop`` in a recording.

    Window *k* begins at frame ``k * hop``: spectra are the same from whichever block they are worked out. The window is
    a sine, before and after, so that windows laid over one another add up to the sound; for measuring alone its square
    (``power`` 2) keeps what lies beside a loud line freer of it.
    """

    def __init__(self, size: int, power: int = 1) -> None:
        self.size = size
        self.hop = size // OVERLAP
        self.window = _sine(size) ** np.float32(power)

    def over(self, start: int, stop: int) -> tuple[int, int]:
        """Return the windows, from the first to before the last, that hold any frame of a span."""
        return (start - self.size) // self.hop + 1, -(-stop // self.hop)

    def inside(self, start: int, stop: int) -> tuple[int, int]:
        """Return the windows, from the first to before the last, that lie in a span as a whole: none if it is short."""
        first = -(-start // self.hop)
        return first, max(first, (stop - self.size) // self.hop + 1)

    def spectra(self, wave: Wave, at: int, first: int, last: int) -> Spectra:
        """Return the spectra of windows, shape ``(last - first, size // 2 + 1)``.

        Parameters
        ----------
        wave : ndarray, shape (frames,)
            Sound that begins at frame ``at``; there is silence beyond its ends.
        """
        start, stop = first * self.hop - at, (last - 1) * self.hop + self.size - at
        head, tail = max(0, -start), max(0, stop - len(wave))
        part = wave[max(0, start) : max(0, min(stop, len(wave)))]
        if head or tail:
            part = np.pad(part, (head, tail))
        windows = np.lib.stride_tricks.sliding_window_view(part, self.size)[:: self.hop]
        made: Spectra = scipy.fft.rfft(windows * self.window, axis=1)
        return made

    def sound(self, spectra: Spectra, first: int, start: int, stop: int) -> Wave:
        """Return the frames of a span from the spectra of all windows over it, of which ``first`` is the first."""
        windows = scipy.fft.irfft(spectra, self.size, axis=1) * (self.window * np.float32(2 / OVERLAP))
        count, hop = len(windows), self.hop
        laid = np.zeros((count + OVERLAP - 1, hop), np.float32)
        for part in range(OVERLAP):
            laid[part : part + count] += windows[:, part * hop : (part + 1) * hop]
        begin = first * hop
        made: Wave = laid.reshape(-1)[start - begin : stop - begin]
        return made


def powers_of(spectra: Spectra) -> Wave:
    """Return the powers of spectra."""
    made: Wave = spectra.real**2 + spectra.imag**2
    return made


@lru_cache(maxsize=16)
def _sine(size: int) -> Wave:
    return np.sin(np.pi * (np.arange(size) + 0.5) / size).astype(np.float32)


def size_for(seconds: float, rate: float) -> int:
    """Return the power of two, at least 16, nearest to so many seconds."""
    return int(max(16, 2 ** round(np.log2(max(1.0, seconds * rate)))))
