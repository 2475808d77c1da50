"""Autoregressive models: how each sample follows from those before it, and what that says of missing ones."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, next_fast_len, rfft
from scipy.linalg import solve_toeplitz

Wave = npt.NDArray[np.float64]

NOISE_SHARE = 1e-7
"""White noise thought under every sound, as a share of its power. What lies deeper is coding noise or a filter's
skirt: a model that tries to foretell that too gets the loud tones wrong, and fills long gaps too quietly."""

STEADY = 1e-9
"""A share of the diagonal by which equations are kept solvable."""


class Model(NamedTuple):
    """A prediction error filter, beginning with 1, and the mean square of the error it leaves."""

    error_filter: Wave
    error_power: float

    @property
    def order(self) -> int:
        """How many samples it looks back."""
        return len(self.error_filter) - 1


def modelled(wave: Wave, order: int, noise_share: float = NOISE_SHARE) -> Model | None:
    """Return the model of a stretch of sound, of which the middle counts most; None for silence.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    order : int
        Samples to look back, at least 1; a third of the stretch at most.
    noise_share : float
        White noise that is added in thought, as a share of the power.

    References
    ----------
    The autocorrelation method with a Hann window: N. Levinson, 1946; J. Makhoul, "Linear prediction", 1975.
    """
    order = min(order, len(wave) // 3)
    if order < 1:
        return None
    windowed = wave * _hann(len(wave))
    size = next_fast_len(len(wave) + order, real=True)
    spectrum = rfft(windowed, size)
    lags = irfft(spectrum.real**2 + spectrum.imag**2, size)[: order + 1]
    if lags[0] <= 1e-20:
        return None
    lags[0] *= 1.0 + noise_share
    error_filter = np.concatenate([[1.0], solve_toeplitz(lags[:-1], -lags[1:], check_finite=False)])
    # The window takes five eighths of the power.
    return Model(error_filter, max(float(error_filter @ lags) / (0.375 * len(wave)), 1e-20))


@lru_cache(maxsize=32)
def _hann(length: int) -> Wave:
    """Return a symmetric Hann window, which is not to be changed; the same lengths are asked for again and again."""
    window: Wave = np.hanning(length)
    window.setflags(write=False)
    return window


def autocorrelation(error_filter: Wave, length: int) -> Wave:
    """Return the first ``length`` lags of a filter's autocorrelation; zeros beyond its own length."""
    lags = np.correlate(error_filter, error_filter, "full")[len(error_filter) - 1 :]
    column = np.zeros(length)
    column[: min(length, len(lags))] = lags[:length]
    return column


def deviations(model: Model, length: int) -> Wave:
    """Return how far each sample of a gap is likely to be from what the model says: one standard deviation each.

    References
    ----------
    The covariance is the inverse of the normal equations' Toeplitz matrix, whose diagonal follows from its first
    column: I. Gohberg, A. Semencul, 1972.
    """
    column = autocorrelation(model.error_filter, length)
    column[0] *= 1.0 + STEADY
    unit = np.zeros(length)
    unit[0] = 1.0
    first = np.asarray(solve_toeplitz(column, unit, check_finite=False))
    rising = np.cumsum(first**2)
    falling = np.concatenate([[0.0], np.cumsum(first[:0:-1] ** 2)])
    diagonal = (rising - falling) / first[0]
    return np.sqrt(np.maximum(diagonal, 0.0) * model.error_power)
