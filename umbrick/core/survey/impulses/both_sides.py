"""Whether one sound ends and another begins at a place: then no break was left there by what is missing."""

from __future__ import annotations

import itertools

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft, rfftfreq

from umbrick.core.filters.windows import hann

_SIDE_SECONDS, _APART_SECONDS = 0.01, 0.0005
_EDGES_HZ = (0, 400, 1000, 2000, 4000, 8000, 1 << 20)
_LEAST_SHARE = 1e-4
"""What a band has less of than that of all says nothing."""

_ANOTHER_DB, _ALIKE_LOUD_DB = 18.0, 12.0
"""How far the bands of two sounds lie apart, in the root mean square; and what is about as loud."""


def is_another_sound(wave: npt.NDArray[np.float32], start: int, stop: int, rate: int, alike_loud: bool = False) -> bool:
    """Whether the spectra of 10 ms before and after a place have hardly anything in common: a consonant, and a vowel.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    start, stop : int
        The place, in frames of the wave.
    rate : int
    alike_loud : bool
        Whether only sounds that are about as loud as one another count, not a pause and a sound.
    """
    side, apart = round(_SIDE_SECONDS * rate), round(_APART_SECONDS * rate)
    if start < apart + side or stop + apart + side > len(wave):
        return False
    before, after = (_bands(wave[at : at + side], rate) for at in (start - apart - side, stop + apart))
    if alike_loud and abs(10 * np.log10(after.sum() / before.sum())) > _ALIKE_LOUD_DB:
        return False
    return bool(np.sqrt(np.mean(np.square(10 * np.log10(after / before)))) > _ANOTHER_DB)


def _bands(wave: npt.NDArray[np.float32], rate: int) -> npt.NDArray[np.float64]:
    power = np.square(np.abs(rfft(wave * hann(len(wave)))))
    edges = np.searchsorted(rfftfreq(len(wave), 1 / rate), _EDGES_HZ)
    bands = np.array([power[low:high].sum() for low, high in itertools.pairwise(edges) if low < high])
    return np.asarray(bands + _LEAST_SHARE * bands.sum() + 1e-12)
