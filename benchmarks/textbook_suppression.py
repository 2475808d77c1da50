"""A textbook noise suppressor: the log-spectral-amplitude estimator with the decision-directed a-priori ratio.

Y. Ephraim, D. Malah, "Speech enhancement using a minimum mean-square error log-spectral amplitude estimator", 1985.
"""

from __future__ import annotations

import numpy as np
from scipy.special import exp1

_SECONDS, _WEIGHT = 0.04, 0.98
_LEAST_RATIO, _FLOOR = 10 ** (-25 / 10), 10 ** (-25 / 20)


def suppressed(wave, noise, rate):
    """Return a wave without noise of which a stretch is given."""
    size = 2 ** round(np.log2(_SECONDS * rate))
    powers = np.mean(np.abs(_spectra(noise, size)[8:-8]) ** 2, axis=0)
    spectra = _spectra(wave, size)
    seen = np.abs(spectra) ** 2 / powers
    before = np.zeros(len(powers))
    for index, posterior in enumerate(np.minimum(seen, 1e3)):
        prior = np.maximum(_WEIGHT * before + (1 - _WEIGHT) * np.maximum(posterior - 1, 0), _LEAST_RATIO)
        share = prior / (1 + prior)
        gain = np.minimum(share * np.exp(0.5 * exp1(np.maximum(share * posterior, 1e-8))), 1)
        before = gain**2 * posterior
        spectra[index] *= np.maximum(gain, _FLOOR)
    return _sound(spectra, len(wave), size)


def _window(size):
    return np.sin(np.pi * (np.arange(size) + 0.5) / size)


def _spectra(wave, size):
    padded = np.pad(wave, (size, 2 * size))
    return np.fft.rfft(np.lib.stride_tricks.sliding_window_view(padded, size)[:: size // 4] * _window(size), axis=1)


def _sound(spectra, frames, size):
    hop, windows = size // 4, np.fft.irfft(spectra, size, axis=1) * _window(size) / 2
    made = np.zeros((len(windows) - 1) * hop + size)
    for index, window in enumerate(windows):
        made[index * hop : index * hop + size] += window
    return made[size : size + frames]
