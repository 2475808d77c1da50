"""What other lanes tell of one at a moment: the same sound through another microphone and another part of the room.

References
----------
Wiener, N.: "Extrapolation, Interpolation, and Smoothing of Stationary Time Series", MIT Press, 1949.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import scipy.fft
from scipy.linalg import cho_factor, cho_solve, solve_toeplitz, toeplitz

from umbrick.core.linking.correlation import correlated, highest, spectrum_of

Wave = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
Spectrum = npt.NDArray[np.complex128]

TAPS = 64
"""Length of the filter from one lane to another, in samples: half of it before the sound, as either may come first."""

_REACH_SECONDS = 0.02
"""By so much more or less than the clocks say a lane's sound may come: some metres of way through the air."""
_STANDS_OUT = 6.0
_LOADING = 1e-4


def laid_beside(wave: Wave, other: Wave, known: Mask, rate: float) -> Wave:
    """Return another lane's wave moved by whole samples to where it is most like a wave, if anywhere within 20 ms."""
    reach = round(_REACH_SECONDS * rate)
    size = scipy.fft.next_fast_len(2 * len(wave), real=True)
    heard = np.where(known, wave, 0.0).astype(np.float32)
    there = np.where(known, other, 0.0).astype(np.float32)
    lag, height = highest(correlated(spectrum_of(heard, size), spectrum_of(there, size), size), -reach, reach)
    if height < _STANDS_OUT:
        return other
    moved = np.zeros_like(other)
    by = round(lag)
    if by >= 0:
        moved[: len(other) - by] = other[by:]
    else:
        moved[-by:] = other[:by]
    return moved


def foretold(wave: Wave, others: Sequence[Wave], known: Mask, taps: int = TAPS) -> Wave:
    """Return a wave as others tell it, each through a filter of its own, all fitted together where it is known.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    others : sequence of ndarray, shape (n,)
        Of the same moment, laid beside the wave.
    known : ndarray of bool, shape (n,)
        Where the wave and the others can be relied on.
    taps : int
        Length of each filter, an even number: one more is fitted.

    Returns
    -------
    ndarray, shape (n,)

    Notes
    -----
    The normal equations are made of correlations, so that their cost hardly grows with the filters' length.
    """
    half, size = taps // 2, scipy.fft.next_fast_len(2 * len(wave), real=True)
    here = scipy.fft.rfft(np.where(known, wave, 0.0), size)
    there = [scipy.fft.rfft(np.where(known, other, 0.0), size) for other in others]
    blocks = [[_lags(one, two, size, taps) for two in there] for one in there]
    normal = np.block([[toeplitz(block[taps:], block[taps::-1]) for block in row] for row in blocks])
    across = np.concatenate([_lags(one, here, size, taps)[taps - half : taps + half + 1] for one in there])
    power = float(np.trace(normal)) / len(normal)
    if power <= 0:
        return np.zeros_like(wave)
    normal[np.diag_indices_from(normal)] += _LOADING * power
    found = cho_solve(cho_factor(normal, check_finite=False), across, check_finite=False)
    told = np.zeros_like(wave)
    for number, other in enumerate(others):
        told += _convolved(other, found[number * (taps + 1) : (number + 1) * (taps + 1)], size, half)
    return told


def _lags(one: Spectrum, other: Spectrum, size: int, most: int) -> Wave:
    """Return how alike two waves are with the other so many samples later, from ``-most`` to ``most``."""
    whole = scipy.fft.irfft(np.conj(one) * other, size)
    return np.concatenate([whole[size - most :], whole[: most + 1]])


def _convolved(other: Wave, taps: Wave, size: int, half: int) -> Wave:
    """Return a wave through a filter whose taps reach from ``half`` samples before to as many after."""
    whole = scipy.fft.irfft(scipy.fft.rfft(other, size) * scipy.fft.rfft(taps, size), size)
    return np.asarray(np.roll(whole, -half)[: len(other)])


def foretold_by_one(wave: Wave, other: Wave, known: Mask) -> Wave:
    """Return a wave as one other tells it; the same as :func:`foretold`, quicker."""
    half, size = TAPS // 2, scipy.fft.next_fast_len(2 * len(wave), real=True)
    there = scipy.fft.rfft(np.where(known, other, 0.0), size)
    here = scipy.fft.rfft(np.where(known, wave, 0.0), size)
    alike = scipy.fft.irfft(np.abs(there) ** 2, size)[: TAPS + 1]
    if alike[0] <= 0:
        return np.zeros_like(wave)
    alike[0] *= 1 + _LOADING
    across = _lags(there, here, size, half)
    return _convolved(other, solve_toeplitz(alike, across, check_finite=False), size, half)
