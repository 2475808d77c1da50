"""Slips: a single sample too many or too few, where two clocks ran apart and nothing took account of it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.linalg import toeplitz

from umbrick.core.model.across import models_beside
from umbrick.core.model.autoregression import Model

Wave = npt.NDArray[np.float64]
Frames = npt.NDArray[np.int64]

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
    places = np.arange(order, order + last - first)
    frames = np.arange(len(around) - 1)
    taken_out = _unlike(around[frames + (frames >= places[:, np.newaxis])], models)
    widened = np.where(frames == places[:, np.newaxis], 0.0, around[frames - (frames > places[:, np.newaxis])])
    put_in = _solved(widened, places, models)[0]
    as_it_is = around[np.newaxis, :-1]
    present, as_click = float(_unlike(as_it_is, models)[0]), float(_solved(as_it_is, places, models)[0].min())
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
    around = np.insert(wave[at - order : at + order], order, 0.0)
    return float(_solved(around[np.newaxis], np.array([order]), models)[1][0])


def _errors(waves: Wave, model: Model) -> Wave:
    """Return the prediction errors of waves, a row each, but for their first ``order`` samples."""
    count = waves.shape[1] - model.order
    filters = toeplitz(np.pad(model.error_filter[::-1], (0, count - 1)), np.zeros(count))
    return np.asarray(waves @ filters)


def _unlike(waves: Wave, models: list[Model]) -> Wave:
    """Return the energy of the prediction error over waves, a row each, by all models."""
    return sum((np.square(_errors(waves, model)).sum(axis=1) for model in models), np.full(len(waves), 1e-20))


def _solved(waves: Wave, places: Frames, models: list[Model]) -> tuple[Wave, Wave]:
    """Return the energy when in each wave one sample, at least an order from the start, is what makes it least, and
    that sample; of a single wave, at each of the places."""
    rows, order = np.arange(len(waves)), models[0].order
    # What follows the sample within the wave answers to it.
    answering = (places - order)[:, np.newaxis] + np.arange(order + 1)
    is_inside = answering < waves.shape[1] - order
    answering = np.where(is_inside, answering, 0)
    energy, pull, weight = np.zeros(len(waves)), np.zeros(len(places)), np.full(len(places), 1e-20)
    for model in models:
        errors = _errors(waves, model)
        energy += np.square(errors).sum(axis=1)
        own = np.where(is_inside, model.error_filter, 0.0)
        pull += np.einsum("pa,pa->p", own, errors[rows[:, np.newaxis], answering])
        weight += np.einsum("pa,pa->p", own, own)
    return np.maximum(energy - pull**2 / weight, 1e-20), waves[rows, places] - pull / weight


def _db(ratio: float) -> float:
    return float(10 * np.log10(max(ratio, 1e-12)))
