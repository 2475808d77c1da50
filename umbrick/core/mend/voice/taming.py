"""Bringing a band of a short sound down to a voice's own level, line by line, and nothing else."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt
import scipy.fft

from umbrick.core.spectral.evening import evened_power

Wave = npt.NDArray[np.float64]

_OVERLAP = 4
_RAMP_SECONDS = 0.004


def magnitudes(wave: Wave, size: int) -> Wave:
    """Return the magnitudes of overlapping windows of a wave, shape ``(windows, size // 2 + 1)``."""
    return np.abs(_spectra(wave, size))


def tamed(
    wave: Wave,
    start: int,
    stop: int,
    rate: int,
    own: Callable[[Wave], Wave],
    band_hz: tuple[float, float],
    most_db: float,
    size: int,
) -> Wave:
    """Return the frames from ``start`` to ``stop`` of a wave, no stronger in a band than ``own`` says.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        With ``size`` frames or more on either side of the place, as far as there are any.
    own : callable
        Gives the magnitude that every line may have, for all windows or for each, given the windows' magnitudes.
    most_db : float
        The most by which a line is lowered.

    Notes
    -----
    A gain for every window and line, at most 1, evened out over a third of an octave so that the sound keeps its
    grain. At both ends the change comes and goes within 4 ms, inside the place.
    """
    hop = size // _OVERLAP
    low, high = max(0, start - size), min(len(wave), stop + size)
    part = np.pad(wave[low:high], (size, 2 * size))
    spectra = _spectra(part, size)
    hz = np.arange(size // 2 + 1) * rate / size
    inside = (hz >= band_hz[0]) & (hz <= band_hz[1])
    seen = np.abs(spectra)
    excess_db = 20 * np.log10(np.maximum(_evened(seen, hz), 1e-12) / np.maximum(_evened(own(seen), hz), 1e-12))
    gain = 10 ** (-np.clip(excess_db, 0, most_db) / 20)
    gain[:, ~inside] = 1.0
    windows = scipy.fft.irfft(spectra * (1 - gain), size, axis=1) * _window(size) * (8 / (3 * _OVERLAP))
    taken = np.zeros(len(part) + size)
    for index, window in enumerate(windows):
        taken[index * hop : index * hop + size] += window
    change = taken[size + start - low : size + stop - low]
    ramp = min((stop - start) // 2, max(1, round(_RAMP_SECONDS * rate)))
    rise = 0.5 - 0.5 * np.cos(np.pi * (np.arange(ramp) + 0.5) / max(1, ramp))
    change[:ramp] *= rise
    change[len(change) - ramp :] *= rise[::-1]
    return wave[start:stop] - change


def _evened(magnitude: Wave, hz: Wave) -> Wave:
    made: Wave = np.sqrt(evened_power(np.square(magnitude), hz))
    return made


def _spectra(wave: Wave, size: int) -> npt.NDArray[np.complex128]:
    if len(wave) < size:
        wave = np.pad(wave, (0, size - len(wave)))
    windows = np.lib.stride_tricks.sliding_window_view(wave, size)[:: size // _OVERLAP]
    made: npt.NDArray[np.complex128] = scipy.fft.rfft(windows * _window(size), axis=1)
    return made


def _window(size: int) -> Wave:
    return 0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(size) + 0.5) / size)
