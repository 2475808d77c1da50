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


def models_beside(wave: Wave, start: int, stop: int, rate: int) -> list[Model]:
    """Return the models, of one order, of 40 ms before a place and after it; none where a side is shorter, and that of
    one side where the other is silent."""
    context, order = round(_CONTEXT_SECONDS * rate), max(_LEAST_ORDER, round(_ORDER_SECONDS * rate))
    if start < context or stop + context > len(wave):
        return []
    models = (modelled(part, order) for part in (wave[start - context : start], wave[stop : stop + context]))
    return [model for model in models if model is not None and model.order == order]


def unlike_across(before: Wave, after: Wave, models: list[Model]) -> float:
    """Return the energy of the error over as many samples after a join as the models look back, against the usual."""
    order = models[0].order
    joined = np.concatenate([before[len(before) - order :], after[:order]])
    energy = sum(float(np.square(np.convolve(joined, model.error_filter, "valid")).sum()) for model in models)
    return (energy + 1e-20) / (order * sum(model.error_power for model in models))


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
