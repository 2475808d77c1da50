"""Autoregressive models: how each sample follows from those before it, and what that says of missing ones."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, next_fast_len, rfft
from scipy.linalg import LinAlgError, cho_factor, cho_solve, solve_toeplitz, toeplitz
from scipy.signal import get_window

from umbrick.core.mend.bounds import Bounds
from umbrick.core.mend.least_squares import fill

Wave = npt.NDArray[np.float64]

NOISE_SHARE = 1e-7
"""White noise thought under every sound, as a share of its power. What lies deeper is coding noise or a filter's
skirt: a model that tries to foretell that too gets the loud tones wrong, and fills long gaps too quietly."""

_STEADY = 1e-9
_DIRECT = 400
"""Up to so many unknown samples the equations are solved by Cholesky's method, beyond by Levinson's, which is quicker
but less exact."""


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
    windowed = wave * get_window("hann", len(wave), fftbins=False)
    size = next_fast_len(len(wave) + order, real=True)
    spectrum = rfft(windowed, size)
    lags = irfft(spectrum.real**2 + spectrum.imag**2, size)[: order + 1]
    if lags[0] <= 1e-20:
        return None
    lags[0] *= 1.0 + noise_share
    error_filter = np.concatenate([[1.0], solve_toeplitz(lags[:-1], -lags[1:], check_finite=False)])
    # The window takes five eighths of the power.
    return Model(error_filter, max(float(error_filter @ lags) / (0.375 * len(wave)), 1e-20))


class Normal(NamedTuple):
    """Normal equations of a gap's samples: the first column of a symmetric Toeplitz matrix, and the right side."""

    column: Wave
    pull: Wave

    def __add__(self, other: object) -> Normal:
        """Return the equations of both together."""
        assert isinstance(other, Normal)
        return Normal(self.column + other.column, self.pull + other.pull)

    def scaled(self, factor: float) -> Normal:
        """Return equations that count ``factor`` times as much."""
        return Normal(self.column * factor, self.pull * factor)

    def solved(self) -> Wave:
        """Return the samples."""
        column = self.column.copy()
        column[0] *= 1.0 + _STEADY
        if len(column) > _DIRECT:
            return np.asarray(solve_toeplitz(column, self.pull, check_finite=False))
        try:
            return np.asarray(cho_solve(cho_factor(toeplitz(column), check_finite=False), self.pull))
        except LinAlgError:
            return np.asarray(np.linalg.lstsq(toeplitz(column), self.pull)[0])


def normal_equations(wave: Wave, start: int, stop: int, model: Model) -> Normal:
    """Return the equations whose solution makes the prediction errors that a gap bears on least.

    What the wave holds in the gap is not looked at. At least ``model.order`` samples must lie on either side.

    References
    ----------
    A. J. E. M. Janssen, R. N. J. Veldhuis, L. B. Vries, "Adaptive interpolation of discrete-time signals that can be
    modeled as autoregressive processes", 1986.
    """
    error_filter, order, length = model.error_filter, model.order, stop - start
    around = wave[start - order : stop + order].copy()
    around[order : order + length] = 0.0
    errors = np.convolve(around, error_filter)[order : length + 2 * order]
    return Normal(autocorrelation(error_filter, length), -np.correlate(errors, error_filter, "valid"))


def autocorrelation(error_filter: Wave, length: int) -> Wave:
    """Return the first ``length`` lags of a filter's autocorrelation; zeros beyond its own length."""
    lags = np.correlate(error_filter, error_filter, "full")[len(error_filter) - 1 :]
    column = np.zeros(length)
    column[: min(length, len(lags))] = lags[:length]
    return column


def interpolated(
    wave: Wave, start: int, stop: int, order: int, sweeps: int, noise_share: float = NOISE_SHARE
) -> tuple[Wave, Model | None]:
    """Return a gap's samples as the sound on both sides has them, and the model of it; zeros and None in silence.

    Model and samples are estimated in turn, ``sweeps`` times; what the wave holds in the gap at first is not looked
    at. A gap at an end of the wave is filled from its other side.
    """
    filled = wave.copy()
    filled[start:stop] = 0.0
    order = min(order, max(start, len(wave) - stop))
    model = None
    for _ in range(sweeps):
        model = modelled(filled, order, noise_share)
        if model is None:
            break
        filled[start:stop] = solved_gap(filled, start, stop, model)
    return filled[start:stop].copy(), model


def solved_gap(wave: Wave, start: int, stop: int, model: Model) -> Wave:
    """Return a gap's samples as a model has them; near an end of the wave they follow from what there is."""
    if start >= model.order and stop + model.order <= len(wave):
        return normal_equations(wave, start, stop, model).solved()
    if start < len(wave) - stop:
        # An autoregressive sound is one backward too, and only from its longer side can a gap be foretold.
        return solved_gap(wave[::-1], len(wave) - stop, len(wave) - start, model)[::-1]
    free = np.full(len(wave), np.inf)
    return fill(wave, np.arange(start, stop), Bounds(-free, free), model.error_filter)


def deviations(model: Model, length: int) -> Wave:
    """Return how far each sample of a gap is likely to be from what the model says: one standard deviation each.

    References
    ----------
    The covariance is the inverse of the normal equations' Toeplitz matrix, whose diagonal follows from its first
    column: I. Gohberg, A. Semencul, 1972.
    """
    column = autocorrelation(model.error_filter, length)
    column[0] *= 1.0 + _STEADY
    unit = np.zeros(length)
    unit[0] = 1.0
    first = np.asarray(solve_toeplitz(column, unit, check_finite=False))
    rising = np.cumsum(first**2)
    falling = np.concatenate([[0.0], np.cumsum(first[:0:-1] ** 2)])
    diagonal = (rising - falling) / first[0]
    return np.sqrt(np.maximum(diagonal, 0.0) * model.error_power)
