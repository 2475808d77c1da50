"""How well sound goes on across a join, as models of what is beside it foretell."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
from scipy.linalg import toeplitz

from umbrick.core.model.autoregression import Model, modelled

Wave = npt.NDArray[np.float64]
Frames = npt.NDArray[np.int64]

_CONTEXT_SECONDS = 0.04
_ORDER_SECONDS, _LEAST_ORDER = 0.0012, 24


class Beside:
    """The models, of one order, of 40 ms before and after places of a wave; what is asked for again is made once."""

    def __init__(self, wave: Wave, rate: int) -> None:
        self._wave = wave
        self._context = round(_CONTEXT_SECONDS * rate)
        self._order = max(_LEAST_ORDER, round(_ORDER_SECONDS * rate))
        self._made: dict[int, Model | None] = {}

    def models(self, start: int, stop: int) -> list[Model]:
        """Return the models of what is before ``start`` and from ``stop`` on; none where a side is shorter than that,
        and that of one side where the other is silent."""
        if start < self._context or stop + self._context > len(self._wave):
            return []
        models = (self._from(first) for first in (start - self._context, stop))
        return [model for model in models if model is not None and model.order == self._order]

    def _from(self, first: int) -> Model | None:
        if first not in self._made:
            self._made[first] = modelled(self._wave[first : first + self._context], self._order)
        return self._made[first]


def models_beside(wave: Wave, start: int, stop: int, rate: int) -> list[Model]:
    """Return the models of 40 ms before a place of a wave and after it, see :class:`Beside`."""
    return Beside(wave, rate).models(start, stop)


def unlike_across(before: Wave, after: Wave, models: list[Model]) -> float:
    """Return the energy of the error over as many samples after a join as the models look back, against the usual."""
    order = models[0].order
    joined = np.concatenate([before[len(before) - order :], after[:order]])
    energy = sum(float(np.square(np.convolve(joined, model.error_filter, "valid")).sum()) for model in models)
    return (energy + 1e-20) / (order * sum(model.error_power for model in models))


def unlike_within(wave: Wave, places: Frames, models: list[Model]) -> Wave:
    """Return it for a wave as it is, at each of some places in a row."""
    order = models[0].order
    near = wave[places[0] - order : places[-1] + order]
    energies = np.full(len(places), 1e-20)
    for model in models:
        errors = np.square(np.convolve(near, model.error_filter, "valid"))
        energies += np.convolve(errors, np.ones(order), "valid")
    return energies / (order * sum(model.error_power for model in models))


def unlike_across_all(wave: Wave, joins: Sequence[tuple[Frames, Frames]], models: list[Model]) -> list[Wave]:
    """Return it for the joins from before every frame of some to every frame of others, ``(outs, intos)`` of each."""
    order = models[0].order
    views = np.lib.stride_tricks.sliding_window_view(wave, order)
    beside = [(views[outs - order], views[intos]) for outs, intos in joins]
    energies = [np.full((len(outs), len(intos)), 1e-20) for outs, intos in joins]
    for model in models:
        # What a sample's error owes to those before the join, and what to those after it, add up.
        of_before = toeplitz(model.error_filter[:0:-1], np.zeros(order))
        of_after = toeplitz(model.error_filter[:-1], np.zeros(order)).T
        for energy, (before, after) in zip(energies, beside, strict=True):
            left, right = before @ of_before, after @ of_after
            own = np.square(left).sum(axis=1)[:, np.newaxis] + np.square(right).sum(axis=1)
            energy += np.maximum(own + 2 * left @ right.T, 0.0)
    usual = order * sum(model.error_power for model in models)
    return [energy / usual for energy in energies]
