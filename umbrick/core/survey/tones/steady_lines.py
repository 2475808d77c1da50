"""Faint lines that neither come nor go, under sound that does: seen best where the sound is quiet."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import fft, ifft, next_fast_len, rfft
from scipy.ndimage import uniform_filter1d

from umbrick.core.filters.windows import hann

Floats = npt.NDArray[np.float64]

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


_LINE_DB, _BESIDE_DB = 10.0, 6.0
"""How far a line stands out that counts, and how far the highest of what lies beside it does by chance."""

_OTHER_HZ = 1.0

_FEW_LINES = {1: 0.5, 2: 0.75}


class SteadyLines(NamedTuple):
    """Lines at multiples of one frequency: arrays of one value each, in the order they were asked for."""

    fundamental_hz: float
    over_db: Floats
    """How far each stands out over what lies beside it."""

    level_dbfs: Floats
    lead_db: Floats
    """By how much each is stronger than any other line within 13 Hz."""


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
    order = np.array(numbers)
    bands = _Bands(stretch, len(stretch) / rate, near_hz * order)
    tried = np.arange(-reach_hz, reach_hz + 1e-9, 1 / (4 * bands.seconds * order.max()))
    over = np.maximum(bands.powers(np.outer(order, tried)) / bands.floor[:, np.newaxis], 1e-9)
    # One strong line is no hum: first the frequency is found that all lines speak for, then the likeliest next to it.
    fits = np.clip(10 * np.log10(over), 0, ENOUGH_DB).sum(axis=0)
    beside = np.abs(tried - tried[int(np.argmax(fits))]) <= _FINE_TURNS / bands.seconds
    best = float(tried[int(np.argmax(np.where(beside, over.sum(axis=0), 0)))])
    power = np.minimum(bands.powers(order[:, np.newaxis] * best)[:, 0], np.square(bands.weakest(order * best)))
    return SteadyLines(
        near_hz + best,
        10 * np.log10(np.maximum(power / bands.floor, 1e-9)),
        # A real sinusoid of amplitude a is a / 2 in its band, and its RMS is a / √2.
        10 * np.log10(np.maximum(2 * power, 1e-16)),
        10 * np.log10(np.maximum(power, 1e-20) / bands.strongest_beside(order * best)),
    )


def mains_evidence_db(over_db: Floats) -> tuple[npt.NDArray[np.bool_], float]:
    """Return which of the first lines of a hum stand out, and what they say for it together, in dB.

    One line is a tone, two may be one note's, and mains without its first two lines is hardly ever met.
    """
    stands_out = over_db >= _LINE_DB
    evidence = float(np.clip(over_db[stands_out] - _BESIDE_DB, 0, ENOUGH_DB).sum())
    return stands_out, evidence * _FEW_LINES.get(int(stands_out.sum()), 1.0) * (1.0 if stands_out[:2].any() else 0.4)


class _Bands:
    """What lies around some lines, a row each, moved to zero hertz, with the weight of every moment."""

    def __init__(self, stretch: npt.NDArray[np.float32], seconds: float, middles_hz: Floats) -> None:
        spectrum = rfft(stretch.astype(np.float64))
        size = next_fast_len(int(2 * _BAND_HZ * seconds))
        turns = np.fft.fftfreq(size, 1 / size)
        taper = np.clip((_BAND_HZ - np.abs(turns) / seconds) / ((1 - _FLAT) * _BAND_HZ), 0, 1)
        middles = np.round(middles_hz * seconds)[:, np.newaxis]
        bins = np.clip(middles + turns, 0, len(spectrum) - 1).astype(np.int64)
        wave = ifft(spectrum[bins] * taper, axis=1) * (size / len(stretch))
        # A band's middle is a whole bin; what is left to the line turns slowly.
        wave *= np.exp(-2j * np.pi * (middles_hz[:, np.newaxis] - middles / seconds) * _times(size, seconds))
        loudness = uniform_filter1d(np.square(np.abs(wave)), max(1, round(_LOUDNESS_SECONDS * size / seconds)), axis=1)
        self.seconds = seconds
        self._wave = wave
        self._weights = 1 / (loudness + _FAINTEST * loudness.mean(axis=1, keepdims=True) + 1e-16)
        bell = hann(size) * self._weights
        self._powers = np.square(np.abs(fft(wave * bell, _ZOOM * size, axis=1)))
        self._powers /= np.square(bell.sum(axis=1, keepdims=True))
        inner = np.abs(np.fft.fftfreq(_ZOOM * size, seconds / size)) < _FLAT * _BAND_HZ
        self.floor = np.maximum(np.median(self._powers[:, inner], axis=1), 1e-20)

    def powers(self, hz: Floats) -> Floats:
        """Return the powers at frequencies beside the bands' middles, a row of frequencies for each."""
        columns = np.round(hz * self.seconds * _ZOOM).astype(np.int64) % self._powers.shape[1]
        return np.asarray(np.take_along_axis(self._powers, columns, axis=1))

    def strongest_beside(self, hz: Floats) -> Floats:
        """Return the power of the strongest line in each band but that at ``hz``."""
        apart = np.fft.fftfreq(self._powers.shape[1], _ZOOM * self.seconds / self._powers.shape[1])
        is_other = (np.abs(apart) < _FLAT * _BAND_HZ) & (np.abs(apart - hz[:, np.newaxis]) > _OTHER_HZ)
        return np.asarray(np.where(is_other, self._powers, 1e-20).max(axis=1))

    def weakest(self, hz: Floats) -> Floats:
        """Return the most that each line's size can be in the part of the stretch where it is smallest."""
        size = self._wave.shape[1]
        still = self._weights * self._wave * np.exp(-2j * np.pi * np.outer(hz, _times(size, self.seconds)))
        parts = max(2, round(self.seconds / _PART_SECONDS))
        starts = np.arange(parts) * size // parts
        sizes = np.abs(np.add.reduceat(still, starts, axis=1))
        # Neighbouring values are nearly independent, as there are just as many as the band is wide.
        errors = np.sqrt(np.add.reduceat(np.square(np.abs(still)), starts, axis=1))
        most = (sizes + _ERRORS * errors) / np.add.reduceat(self._weights, starts, axis=1)
        return np.asarray(most.min(axis=1))


def _times(size: int, seconds: float) -> Floats:
    return np.asarray(np.arange(size) * (seconds / size))
