"""Faint lines that neither come nor go, under sound that does: seen best where the sound is quiet."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import fft, ifft, next_fast_len, rfft
from scipy.ndimage import uniform_filter1d
from scipy.signal import get_window

Floats = npt.NDArray[np.float64]
Complexes = npt.NDArray[np.complex128]

ENOUGH_DB = 24.0
"""A line that stands out further says no more of the others."""

_BAND_HZ = 16.0
"""Half the width of what is looked at around a line; so short a moment can be told from the next."""

_FLAT = 0.8
_LOUDNESS_SECONDS = 0.1
_PART_SECONDS = 1.2
_ZOOM = 8
_FINE_TURNS = 0.6
_ERRORS = 2.0
_FAINTEST = 1e-3
"""A moment this much below the mean in power weighs no less: digital silence does not tell of everything."""


class SteadyLines(NamedTuple):
    """Lines at multiples of one frequency: arrays of one value each, in the order they were asked for."""

    fundamental_hz: float
    over_db: Floats
    """How far each stands out over what lies beside it."""

    level_dbfs: Floats


class _Band(NamedTuple):
    """What lies around a line, moved to zero hertz, with the weight of every moment, and its spectrum."""

    wave: Complexes
    weights: Floats
    powers: Floats
    floor: float


def steady_lines(
    stretch: npt.NDArray[np.float32], rate: float, near_hz: float, reach_hz: float, numbers: Sequence[int]
) -> SteadyLines:
    """Return the lines at multiples of that frequency near ``near_hz`` where they stand out most.

    Parameters
    ----------
    stretch : (n,) array of float32
        Sound of some seconds.
    rate : float
        In Hz, more than twice the highest line and 32 Hz.
    near_hz, reach_hz : float
        Where the fundamental is expected, and how far from there it may be.
    numbers : sequence of int
        Which multiples to look at.

    Notes
    -----
    In the band around each line every moment weighs the less the louder the band is then, so that pauses tell more
    than what is said between them: the maximum-likelihood estimate of a sinusoid in noise whose level changes
    (after S. M. Kay, 1993, section 7.7). The fundamental is where the levels of its lines over what lies beside them
    add up to most (harmonic sum, after D. J. Hermes, 1988). What is steady of a line is no stronger than it is in the
    part of the stretch where it is weakest, but for what chance would explain there: a note that is struck now and
    then is not steady.
    """
    spectrum = rfft(stretch.astype(np.float64))
    seconds = len(stretch) / rate
    bands = [_band(spectrum, len(stretch), seconds, number * near_hz) for number in numbers]
    tried = np.arange(-reach_hz, reach_hz + 1e-9, 1 / (4 * seconds * max(numbers)))
    over = np.array([
        np.maximum(_at(band, number * tried, seconds) / band.floor, 1e-9)
        for band, number in zip(bands, numbers, strict=True)
    ])  # fmt: skip
    # One strong line is no hum: first the frequency is found that all lines speak for, then the likeliest next to it.
    fits = np.clip(10 * np.log10(over), 0, ENOUGH_DB).sum(axis=0)
    beside = np.abs(tried - tried[int(np.argmax(fits))]) <= _FINE_TURNS / seconds
    best = float(tried[int(np.argmax(np.where(beside, over.sum(axis=0), 0)))])
    power = np.array([
        min(float(_at(band, np.array([number * best]), seconds)[0]), _weakest(band, number * best, seconds) ** 2)
        for band, number in zip(bands, numbers, strict=True)
    ])  # fmt: skip
    floor = np.array([band.floor for band in bands])
    # A real sinusoid of amplitude a is a / 2 in its band, and its RMS is a / √2.
    return SteadyLines(
        near_hz + best,
        10 * np.log10(np.maximum(power / floor, 1e-9)),
        10 * np.log10(np.maximum(2 * power, 1e-16)),
    )


@lru_cache(maxsize=8)
def _bell(length: int) -> Floats:
    return np.asarray(get_window("hann", length), np.float64)


def _band(spectrum: Complexes, frames: int, seconds: float, middle_hz: float) -> _Band:
    size = next_fast_len(int(2 * _BAND_HZ * seconds))
    turns = np.fft.fftfreq(size, 1 / size)
    taper = np.clip((_BAND_HZ - np.abs(turns) / seconds) / ((1 - _FLAT) * _BAND_HZ), 0, 1)
    bins = (round(middle_hz * seconds) + turns).astype(np.int64)
    wave = ifft(spectrum[np.clip(bins, 0, len(spectrum) - 1)] * taper) * (size / frames)
    # The band's middle is a whole bin; what is left to the line turns slowly.
    wave *= np.exp(-2j * np.pi * (middle_hz - round(middle_hz * seconds) / seconds) * _times(size, seconds))
    loudness = uniform_filter1d(np.square(np.abs(wave)), max(1, round(_LOUDNESS_SECONDS * size / seconds)))
    weights = 1 / (loudness + _FAINTEST * float(loudness.mean()) + 1e-16)
    bell = _bell(size) * weights
    powers = np.square(np.abs(fft(wave * bell, _ZOOM * size))) / float(bell.sum()) ** 2
    inner = np.abs(np.fft.fftfreq(_ZOOM * size, seconds / size)) < _FLAT * _BAND_HZ
    return _Band(wave, weights, powers, max(float(np.median(powers[inner])), 1e-20))


def _times(size: int, seconds: float) -> Floats:
    return np.asarray(np.arange(size) * (seconds / size))


def _at(band: _Band, hz: Floats, seconds: float) -> Floats:
    """Return the power at frequencies beside the band's middle."""
    return np.asarray(band.powers[np.round(hz * seconds * _ZOOM).astype(np.int64) % len(band.powers)])


def _weakest(band: _Band, hz: float, seconds: float) -> float:
    """Return the most that a line's size can be in the part of the stretch where it is smallest."""
    still = band.wave * np.exp(-2j * np.pi * hz * _times(len(band.wave), seconds))
    parts = max(2, round(seconds / _PART_SECONDS))
    most = []
    for wave, weights in zip(np.array_split(still, parts), np.array_split(band.weights, parts), strict=True):
        size = abs(complex(weights @ wave))
        # Neighbouring values are nearly independent, as there are just as many as the band is wide.
        error = np.sqrt(float(np.square(weights) @ np.square(np.abs(wave))))
        most.append((size + _ERRORS * error) / float(weights.sum()))
    return min(most)
