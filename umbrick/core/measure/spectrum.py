"""The spectra of a span: its average, and the peaks in it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.filters.windows import hann
from umbrick.core.sound.source import Source
from umbrick.core.units import SILENCE_DBFS

_LONGEST, _SHORTEST = 8192, 256
_MOST_WINDOWS = 200


class Spectra(NamedTuple):
    """Levels in dBFS for each bin, from 0 Hz to half the rate: on average, and the highest of any window."""

    average_db: npt.NDArray[np.float64]
    peak_db: npt.NDArray[np.float64]


def average_spectrum_db(source: Source, start: int, stop: int, channels: list[int]) -> npt.NDArray[np.float64]:
    """Return the mean power spectrum of a span in dBFS; see :func:`spectra_db`."""
    return spectra_db(source, start, stop, channels).average_db


def spectra_db(source: Source, start: int, stop: int, channels: list[int]) -> Spectra:
    """Return the spectra of a span, the mean of some channels.

    Windows of up to 8,192 frames that overlap by half (P. D. Welch, 1967), of a long span only some, evenly spread.
    A sine of full scale shows as 0 dBFS.
    """
    size = _LONGEST
    while size > _SHORTEST and size > stop - start:
        size //= 2
    window = hann(size)
    last = max(start, stop - size)
    count = int(min(_MOST_WINDOWS, max(1, 2 * (stop - start) // size - 1)))
    power, peak = np.zeros(size // 2 + 1), np.zeros(size // 2 + 1)
    for at in np.linspace(start, last, count).astype(int).tolist():
        sound = source.read(at, min(at + size, source.frames))[:, channels]
        if len(sound) < size:
            sound = np.pad(sound, ((0, size - len(sound)), (0, 0)))
        own = np.square(np.abs(np.fft.rfft(sound * window[:, np.newaxis], axis=0))).mean(axis=1)
        power += own
        peak = np.maximum(peak, own)
    full = (window.sum() / 2) ** 2
    average, highest = (np.maximum(10 * np.log10(part / full + 1e-30), SILENCE_DBFS) for part in (power / count, peak))
    return Spectra(average, highest)
