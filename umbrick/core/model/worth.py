"""Whether rebuilding damage is worth it: what is faint may be nearer to the sound than any model's guess."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.model.autoregression import Model, deviations, modelled
from umbrick.core.model.damage_extent import MOST_ORDER_FOR_EDGES, context_of, error_power_beside, order_for

Wave = npt.NDArray[np.float64]


def expected_gain_db(wave: Wave, start: int, stop: int, filled: Wave, rate: int) -> float:
    """Return how much more a rebuild takes out than it is itself likely to be off by, in dB.

    Below 3 dB what is there is as likely to be nearer to the truth: the energy that is taken out is that of the damage
    and of the rebuild's own error together.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        With the damage.
    start, stop : int
        What is rebuilt.
    filled : ndarray, shape (stop − start,)
    rate : int

    Notes
    -----
    The rebuild's error is the trace of the posterior covariance of an autoregressive process, with the prediction
    error that lies beside the place.
    """
    around, first, model = surroundings(wave, start, stop, filled)
    taken_out = float(np.square(wave[start:stop] - filled).sum())
    if model is None:
        return float("inf") if taken_out else 0.0
    power = error_power_beside(around, first, first + stop - start, model, rate)
    off = float(np.square(deviations(model, stop - start)).sum()) * power / model.error_power
    return float(10 * np.log10((taken_out + 1e-20) / (off + 1e-20)))


def surroundings(wave: Wave, start: int, stop: int, filled: Wave) -> tuple[Wave, int, Model | None]:
    """Return the sound around a place with what was rebuilt there, where in it the place begins, and its model."""
    order = min(order_for(stop - start), MOST_ORDER_FOR_EDGES)
    left, right = context_of(start, stop, order, len(wave))
    around = wave[left:right].copy()
    around[start - left : stop - left] = filled
    return around, start - left, modelled(around, order)
