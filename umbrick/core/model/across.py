"""How well sound goes on across a join, as models of what is beside it foretell."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.model.autoregression import Model, modelled

Wave = npt.NDArray[np.float64]

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
    return float(unlike_across_all(joined, np.array([order]), np.array([order]), models)[0, 0])


def unlike_across_all(
    wave: Wave, outs: npt.NDArray[np.int64], intos: npt.NDArray[np.int64], models: list[Model]
) -> npt.NDArray[np.float64]:
    """Return it for the joins from before every frame of ``outs`` to every frame of ``intos``, ``(outs, intos)``."""
    order = models[0].order
    views = np.lib.stride_tricks.sliding_window_view(wave, order)
    before, after = views[outs - order], views[intos]
    energy = np.full((len(outs), len(intos)), 1e-20)
    for model in models:
        # What a sample's error owes to those before the join, and what to those after it, add up.
        shifts = np.arange(order)[np.newaxis, :] - np.arange(order)[:, np.newaxis]
        filters = model.error_filter
        left = before @ np.where(shifts <= 0, filters[np.minimum(order + shifts, order)], 0.0)
        right = after @ np.where(shifts >= 0, filters[np.maximum(shifts, 0)], 0.0)
        own = np.square(left).sum(axis=1)[:, np.newaxis] + np.square(right).sum(axis=1)
        energy += np.maximum(own + 2 * left @ right.T, 0.0)
    return np.asarray(energy / (order * sum(model.error_power for model in models)))
