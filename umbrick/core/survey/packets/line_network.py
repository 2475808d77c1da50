"""A small network that hears where a line made sound up: dilated convolutions over the features of each hop.

It was trained on voices over real coders with real losses, see ``benchmarks/training_line_network.py``.
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d

from umbrick.core.survey.packets.line_features import BANDS, FEATURES

Floats = npt.NDArray[np.float32]

_LEVEL_HOPS = 60
"""Levels are those against the loudest within so many hops on either side."""

_SOFTEST, _LOUDEST, _FAINTEST = -6.0, 2.0, -8.0
_TAPS = 5
DILATIONS = (1, 1, 2, 4, 8)
CONTEXT_HOPS = _LEVEL_HOPS + sum(_TAPS // 2 * dilation for dilation in DILATIONS)
"""So many hops on either side bear on what is said of one."""

SILENCE: Floats = np.array([-9.0] * (BANDS + 1) + [0.0] * (FEATURES - BANDS - 1), np.float32)
"""The features of nothing."""


class _Layer(NamedTuple):
    """Weights of shape ``(taps, in, out)`` and the bias."""

    weights: Floats
    bias: Floats


def log_odds(features: Floats) -> Floats:
    """Return how likely each hop was made up, as log odds; the first and last :data:`CONTEXT_HOPS` are left out.

    Parameters
    ----------
    features : ndarray, shape (hops, FEATURES)
        As :func:`line_features` gives them.

    References
    ----------
    Dilated convolutions: F. Yu, V. Koltun, "Multi-scale context aggregation by dilated convolutions", 2016. Adding
    what a layer makes to what it was given: K. He et al., 2016.
    """
    *layers, last = _network()
    values = levelled(features)[_LEVEL_HOPS : len(features) - _LEVEL_HOPS]
    for number, (layer, dilation) in enumerate(zip(layers, DILATIONS, strict=True)):
        made = np.maximum(_convolved(values, layer, dilation), 0)
        edge = _TAPS // 2 * dilation
        values = made + values[edge : len(values) - edge] if number else made
    return (values @ last.weights[0] + last.bias)[:, 0]


def levelled(features: Floats) -> Floats:
    """Return features with levels against the loudest nearby, as the network takes them."""
    loudest = np.maximum(maximum_filter1d(features[:, BANDS], 2 * _LEVEL_HOPS + 1), np.float32(_FAINTEST))
    values = features.astype(np.float32, copy=True)
    values[:, : BANDS + 1] = np.clip(values[:, : BANDS + 1] - loudest[:, np.newaxis], _SOFTEST, _LOUDEST)
    return values


def _convolved(values: Floats, layer: _Layer, dilation: int) -> Floats:
    count = len(values) - (_TAPS - 1) * dilation
    made = np.tile(layer.bias, (count, 1))
    for tap, weights in enumerate(layer.weights):
        made += values[tap * dilation : tap * dilation + count] @ weights
    return made


@cache
def _network() -> tuple[_Layer, ...]:
    with files("umbrick.core.survey.packets").joinpath("line_network.npz").open("rb") as file:
        kept = np.load(file, allow_pickle=False)
        return tuple(_Layer(kept[f"weights_{n}"], kept[f"bias_{n}"]) for n in range(len(DILATIONS) + 1))
