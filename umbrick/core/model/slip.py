"""Slips: a single sample too many or too few, where two clocks ran apart and nothing took account of it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.model.across import models_beside
from umbrick.core.model.autoregression import Model

Wave = npt.NDArray[np.float64]

_BESIDE = 8
"""Frames from the middle of what stands out at which the slip may lie."""


class Slip(NamedTuple):
    """Where a sample is too many (``samples`` is 1: this one) or one is missing (−1: before this one), by how many dB
    putting it right takes the prediction error down, by how many the best single other sample there would, and how far
    what is left lies over what is usual beside it."""

    at: int
    samples: int
    gain_db: float
    as_click_db: float
    left_db: float


def slip_near(wave: Wave, start: int, stop: int, rate: int) -> Slip | None:
    """Return the slip that explains best what stands out at a place of a wave; None where it is silent or at its ends.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    start, stop : int
        What stands out.
    rate : int

    References
    ----------
    The sound beside is an autoregressive process (J. Makhoul, 1975): what comes after a slip is foretold well again as
    soon as the sample is taken out or put in, the latter by least squares.
    """
    middle = (start + stop) // 2
    first, last = middle - _BESIDE, middle + _BESIDE
    models = models_beside(wave, first, last, rate)
    if not models:
        return None
    order = models[0].order
    around = wave[first - order : last + order + 1]
    usual = (len(around) - 1 - order) * sum(model.error_power for model in models)
    places = range(order, order + last - first)
    taken_out = np.array([_unlike(np.delete(around, at), models) for at in places])
    put_in = np.array([_solved(np.insert(around[:-2], at, 0.0), at, models)[0] for at in places])
    as_click = min(_solved(around[:-1], at, models)[0] for at in places)
    present = _unlike(around[:-1], models)
    is_many = taken_out.min() <= put_in.min()
    energies = taken_out if is_many else put_in
    least = float(energies.min())
    at = first + int(energies.argmin())
    return Slip(at, 1 if is_many else -1, _db(present / least), _db(present / as_click), _db(least / usual))


def missing_sample(wave: Wave, at: int, rate: int) -> float | None:
    """Return the sample that is missing before one of a wave; None where it is silent or at its ends."""
    models = models_beside(wave, at, at, rate)
    if not models:
        return None
    order = models[0].order
    return _solved(np.insert(wave[at - order : at + order], order, 0.0), order, models)[1]


def _unlike(wave: Wave, models: list[Model]) -> float:
    """Return the energy of the prediction error over a wave but for its first ``order`` samples, by all models."""
    return sum(float(np.square(np.convolve(wave, model.error_filter, "valid")).sum()) for model in models) + 1e-20


def _solved(wave: Wave, at: int, models: list[Model]) -> tuple[float, float]:
    """Return the energy when one sample, at least an order from the start, is what makes it least, and that sample."""
    energy, pull, weight = 0.0, 0.0, 1e-20
    for model in models:
        errors = np.convolve(wave, model.error_filter, "valid")
        answer = errors[at - model.order :][: model.order + 1]
        own = model.error_filter[: len(answer)]
        energy += float(np.square(errors).sum())
        pull += float(own @ answer)
        weight += float(own @ own)
    return max(energy - pull**2 / weight, 1e-20), float(wave[at]) - pull / weight


def _db(ratio: float) -> float:
    return float(10 * np.log10(max(ratio, 1e-12)))
