"""Whether a sound of its own begins at a place and dies away from there: the stroke of a note is no damage to it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft

from umbrick.core.filters.windows import hann

_WINDOW_SECONDS, _BEFORE_SECONDS, _AFTER_SECONDS = 0.02, 0.0005, 0.002
_NEW_DB, _LOUDER_DB = 10.0, 1.0
_LEAST_SHARE = 0.4
_LOWEST_HZ = 150.0
"""Below that, what swings after a great click is the pick-up."""

_BESIDE_BINS = np.ones(3) / 3


def begins_a_sound(wave: npt.NDArray[np.float32], start: int, stop: int, rate: int) -> bool:
    """Whether what sounds after a place is to a good part new, louder than what was before, and dies away.

    A click leaves the sound as it was. A voice that sets in beside one rises, a struck or plucked note is at its
    loudest when it begins.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    start, stop : int
        The place, in frames of the wave.
    rate : int
    """
    size, apart, ahead = (round(s * rate) for s in (_WINDOW_SECONDS, _AFTER_SECONDS, _BEFORE_SECONDS))
    first, next_one = start - ahead - size, stop + apart
    if first < 0 or next_one + 2 * size > len(wave):
        return False
    before, after, later = (_power(wave[at : at + size], rate) for at in (first, next_one, next_one + size))
    least = before.sum() * 10 ** (_LOUDER_DB / 10)
    if not after.sum() >= later.sum() >= least:
        return False
    is_new = np.minimum(after, later) > before * 10 ** (_NEW_DB / 10)
    return bool(later[is_new].sum() >= _LEAST_SHARE * later.sum() > 0)


def _power(wave: npt.NDArray[np.float32], rate: int) -> npt.NDArray[np.float64]:
    """Return the power of each bin and its neighbours, but for the lowest."""
    power = np.square(np.abs(rfft(wave.astype(np.float64) * hann(len(wave)))))
    return np.convolve(power, _BESIDE_BINS, "same")[round(_LOWEST_HZ * len(wave) / rate) + 1 :]
