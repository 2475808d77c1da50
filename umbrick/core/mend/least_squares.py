"""Filling unknown samples so that a linear predictor's error is least, within bounds."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.linalg import LinAlgError, cho_factor, cho_solve

from umbrick.core.mend.bounds import Bounds, Integers, Wave

_ROUNDS = 12


def fill(wave: Wave, unknown: Integers, bounds: Bounds, predictor: Wave) -> Wave:
    """Return the values of the unknown samples that make the prediction error of the wave least.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Not changed. Values at ``unknown`` are not looked at.
    unknown : ndarray of int
        Their indices, ascending. They should lie at least the predictor's order from both ends.
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
    weights = np.correlate(predictor, predictor, "full")[order:]
    distance = np.abs(unknown[:, np.newaxis] - unknown[np.newaxis, :])
    normal = np.where(distance <= order, weights[np.minimum(distance, order)], 0.0)
    normal[np.diag_indices_from(normal)] *= 1.0 + 1e-9
    known = wave.copy()
    known[unknown] = 0.0
    pull = -_weighted(known, unknown, weights)
    low, high = bounds.low[unknown], bounds.high[unknown]
    held = np.zeros(len(unknown), np.bool_)
    values = np.zeros(len(unknown))
    for _ in range(_ROUNDS):
        free = ~held
        if not free.any():
            break
        try:
            factor = cho_factor(normal[np.ix_(free, free)], lower=True, check_finite=False)
        except LinAlgError:
            break
        values[free] = cho_solve(factor, pull[free] - normal[np.ix_(free, held)] @ values[held], check_finite=False)
        outside = (values < low) | (values > high)
        if not outside.any():
            break
        values = np.clip(values, low, high)
        held |= outside
    return np.clip(values, low, high)


def _weighted(wave: Wave, at: Integers, weights: Wave) -> Wave:
    order = len(weights) - 1
    kernel: npt.NDArray[np.float64] = np.concatenate([weights[:0:-1], weights])
    padded = np.pad(wave, order)
    if len(at) * 8 > len(wave):
        return np.convolve(padded, kernel, "valid")[at]
    return np.lib.stride_tricks.sliding_window_view(padded, len(kernel))[at] @ kernel
