"""Interpolating a gap: the samples that an autoregressive model of the sound on both sides finds likeliest."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy
from scipy.linalg import solve_toeplitz, toeplitz
from scipy.linalg.lapack import dposv

from umbrick.core.model.autoregression import NOISE_SHARE, STEADY, Model, autocorrelation, modelled
from umbrick.core.model.bounds import Bounds, Mask
from umbrick.core.model.least_squares import fill

Wave = npt.NDArray[np.float64]

_DENSE = 1500
"""Up to so many unknown samples near an end of the sound, equations without structure are solved."""

_LEAST_ORDER = 32
_DIRECT = 400
"""Up to so many unknown samples the equations are solved by Cholesky's method, beyond by Levinson's, which is quicker
but less exact."""


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

    @property
    def steadied(self) -> Wave:
        """The first column, with which they can be solved."""
        column = self.column.copy()
        column[0] *= 1.0 + STEADY
        return column

    def solved(self) -> Wave:
        """Return the samples."""
        column = self.steadied
        if len(column) > _DIRECT:
            return np.asarray(solve_toeplitz(column, self.pull, check_finite=False))
        # LAPACK's own: for a few samples, as mostly, the general solvers' checks take longer than solving.
        _, samples, not_definite = dposv(toeplitz(column), self.pull)
        return np.asarray(np.linalg.lstsq(toeplitz(column), self.pull)[0] if not_definite else samples)


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


def interpolated(
    wave: Wave, start: int, stop: int, order: int, sweeps: int, noise_share: float = NOISE_SHARE
) -> tuple[Wave, Model | None]:
    """Return a gap's samples as the sound on both sides has them, and the model of it; zeros and None in silence.

    Model and samples are estimated in turn, ``sweeps`` times; what the wave holds in the gap at first is not looked
    at. A gap at an end of the wave is filled from its other side.
    """
    filled = wave.copy()
    filled[start:stop] = 0.0
    before, after = start, len(wave) - stop
    order = min(order, max(before, after))
    if stop - start > _DENSE and min(before, after) >= _LEAST_ORDER:
        # With as much sound on either side as the model looks back, even long gaps are solved quickly.
        order = min(order, before, after)
    model = None
    for _ in range(sweeps):
        model = modelled(filled, order, noise_share)
        if model is None:
            break
        filled[start:stop] = solved_gap(filled, start, stop, model)
    return filled[start:stop].copy(), model


def bridged_over(wave: Wave, damage: Mask) -> Wave:
    """Return a wave with straight lines over its damage."""
    if not damage.any() or damage.all():
        return wave.copy()
    bridged = wave.copy()
    bridged[damage] = np.interp(np.flatnonzero(damage), np.flatnonzero(~damage), wave[~damage])
    return bridged


def solved_gap(wave: Wave, start: int, stop: int, model: Model) -> Wave:
    """Return a gap's samples as a model has them; near an end of the wave they follow from what there is."""
    if start >= model.order and stop + model.order <= len(wave):
        return normal_equations(wave, start, stop, model).solved()
    if start < len(wave) - stop:
        # An autoregressive sound is one backward too, and only from its longer side can a gap be foretold.
        return solved_gap(wave[::-1], len(wave) - stop, len(wave) - start, model)[::-1]
    if stop - start > _DENSE:
        return _gone_on(wave[:start], stop - start, model)
    free = np.full(len(wave), np.inf)
    return fill(wave, np.arange(start, stop), Bounds(-free, free), model.error_filter)


def _gone_on(before: Wave, length: int, model: Model) -> Wave:
    """Return how sound goes on by itself: each sample is what the model foretells from those before it."""
    past = scipy.signal.lfiltic([1.0], model.error_filter, before[::-1][: model.order])
    return np.asarray(scipy.signal.lfilter([1.0], model.error_filter, np.zeros(length), zi=past)[0])
