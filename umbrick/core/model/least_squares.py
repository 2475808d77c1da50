"""Filling unknown samples so that a linear predictor's error is least, within bounds."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, next_fast_len, rfft
from scipy.linalg.lapack import dposv

from umbrick.core.model.autoregression import autocorrelation
from umbrick.core.model.bounds import Bounds, Integers, Wave

_ROUNDS = 12
_MANY = 64
"""From so many places on all of them are weighted at once."""


def fill(wave: Wave, unknown: Integers, bounds: Bounds, predictor: Wave) -> Wave:
    """Return the values of the unknown samples that make the prediction error of the wave least.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Not changed. Values at ``unknown`` are not looked at.
    unknown : ndarray of int
        Their indices, ascending. Near the ends of the wave only errors within it count: what lies beyond is not
        known, least of all to be silent.
    bounds : Bounds
        Of the whole wave.
    predictor : ndarray, shape (order + 1,)
        Prediction error filter, beginning with 1.

    Returns
    -------
    ndarray like ``unknown``
        Within the bounds. Bounded values are found by an active set: values that would leave their bounds are held
        at them and the others solved again.

    References
    ----------
    A. J. E. M. Janssen, R. N. J. Veldhuis, L. B. Vries, "Adaptive interpolation of discrete-time signals that can be
    modeled as autoregressive processes", 1986, eq. 13; the bounds are ours.
    """
    order = len(predictor) - 1
    known = wave.copy()
    known[unknown] = 0.0
    if unknown[0] >= order and unknown[-1] + order < len(wave):
        by_distance = autocorrelation(predictor, max(order, int(unknown[-1] - unknown[0])) + 1)
        normal = by_distance[np.abs(unknown[:, np.newaxis] - unknown[np.newaxis, :])]
        pull = -_weighted(known, unknown, by_distance[: order + 1])
    else:
        normal, pull = _at_an_end(known, unknown, predictor)
    normal.flat[:: len(unknown) + 1] *= 1.0 + 1e-9
    low, high = bounds.low[unknown], bounds.high[unknown]
    held = np.zeros(len(unknown), np.bool_)
    values = np.zeros(len(unknown))
    for _ in range(_ROUNDS):
        free = ~held
        if not free.any():
            break
        own, rest = (normal, pull) if free.all() else _freed(normal, pull, free, values)
        _, solved, not_definite = dposv(own, rest, lower=1)
        if not_definite:
            break
        values[free] = solved
        outside = (values < low) | (values > high)
        if not outside.any():
            break
        values = np.clip(values, low, high)
        held |= outside
    return np.clip(values, low, high)


def _freed(
    normal: Wave, pull: Wave, free: npt.NDArray[np.bool_], values: Wave
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Return the equations of the free values alone."""
    rows = normal[free]
    return rows[:, free], pull[free] - rows[:, ~free] @ values[~free]


def _at_an_end(known: Wave, unknown: Integers, predictor: Wave) -> tuple[Wave, Wave]:
    """Return the normal equations when some errors that the unknown samples bear on lie outside the wave."""
    order = len(predictor) - 1
    errors = np.arange(max(order, int(unknown[0])), min(len(known), int(unknown[-1]) + order + 1))
    lag = errors[:, np.newaxis] - unknown[np.newaxis, :]
    effect = np.where((lag >= 0) & (lag <= order), predictor[np.clip(lag, 0, order)], 0.0)
    error = np.convolve(known, predictor)[errors]
    normal = effect.T @ effect
    # A sample that no error within the wave depends on would otherwise be free.
    normal.flat[:: len(unknown) + 1] += 1e-9 * max(float(np.trace(normal)), 1e-12)
    return normal, -effect.T @ error


def _weighted(wave: Wave, at: Integers, weights: Wave) -> Wave:
    order = len(weights) - 1
    kernel: npt.NDArray[np.float64] = np.concatenate([weights[:0:-1], weights])
    padded = np.pad(wave, order)
    if len(at) > _MANY:
        size = next_fast_len(len(padded), real=True)
        weighted = irfft(rfft(padded, size) * rfft(kernel, size), size)
        return np.asarray(weighted[2 * order :][at])
    return np.lib.stride_tricks.sliding_window_view(padded, len(kernel))[at] @ kernel
