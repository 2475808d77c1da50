"""By how much one piece of sound lies later than another, whatever microphones and rooms have done to both.

References
----------
Knapp, C. H., Carter, G. C.: "The generalized correlation method for estimation of time delay", IEEE Transactions on
Acoustics, Speech, and Signal Processing 24(4), 1976 (the phase transform).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy.fft

from umbrick.core.measure.vertex import vertex
from umbrick.core.model.robust_spread import robust_spread

Wave = npt.NDArray[np.float32]
Spectrum = npt.NDArray[np.complex64]

_FLOOR = 1e-3
"""Below this share of the mean magnitude a frequency counts less: there is nothing of the event in it."""

_TAPER = 0.7
"""Above this share of the frequencies the weight falls to none, so that a peak has a shape to find its middle by."""


class Delay(NamedTuple):
    """``lag`` is how many samples later the other's sound lies; ``height`` how far its peak stands out, in standard
    deviations of the correlation around it: chance stays below 7."""

    lag: float
    height: float


def spectrum_of(wave: Wave, size: int) -> Spectrum:
    """Return the whitened spectrum of a wave, as a transform of ``size`` samples."""
    spectrum = scipy.fft.rfft(wave, size)
    sizes = np.abs(spectrum)
    floor = _FLOOR * float(sizes.mean()) + 1e-20
    return np.asarray(spectrum / (sizes + floor), np.complex64)


def correlated(one: Spectrum, other: Spectrum, size: int) -> Wave:
    """Return the correlation at every lag of two whitened spectra, lags below 0 at the end."""
    share = np.arange(len(one)) / len(one)
    fall = np.clip((share - _TAPER) / (1.0 - _TAPER), 0.0, 1.0)
    weight = (np.cos(0.5 * np.pi * fall) ** 2).astype(np.float32)
    return scipy.fft.irfft(np.conj(one) * other * weight, size)


def highest(correlation: Wave, first: int, last: int) -> Delay:
    """Return the highest peak at lags from ``first`` to ``last``, its place between samples by a parabola."""
    size = len(correlation)
    lags = np.arange(first, last + 1)
    held = correlation[lags % size]
    at = int(held.argmax())
    spread = robust_spread(held) + 1e-20
    peak = int(lags[at])
    around = correlation[np.array([peak - 1, peak, peak + 1]) % size].astype(np.float64)
    return Delay(peak + vertex(*around), float(held[at] - np.median(held)) / spread)
