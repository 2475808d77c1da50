"""Multinomial logistic regression, and a table of weights fitted with and without each recording."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Executor
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.optimize import minimize

Array = npt.NDArray[np.float64]

_PENALTY = 1.0
_ROUNDS = 400


class Example(NamedTuple):
    """Something measured: in which recording, what it is (0 for natural sound), and its measures by name."""

    file: str
    label: int
    columns: dict[str, float]


def fitted(rows: Array, labels: npt.NDArray[np.int64], natural_weighs: float) -> Array:
    """Return the weights of the log odds against natural sound, a column for each other label.

    Parameters
    ----------
    rows : ndarray, shape (n, measures)
        The last measure is 1.
    labels : ndarray, shape (n,)
        0 for natural sound, and 1, 2, …
    natural_weighs : float
        How much a row of natural sound counts, others counting 1.

    References
    ----------
    D. R. Cox, "The regression analysis of binary sequences", 1958; fitted by the method of D. C. Liu, J. Nocedal, 1989,
    with a square penalty on the weights of standardised measures.
    """
    middle, spread = rows.mean(axis=0), rows.std(axis=0) + 1e-12
    middle[-1], spread[-1] = 0.0, 1.0
    scaled = (rows - middle) / spread
    count = np.where(labels == 0, natural_weighs, 1.0)
    truth = np.eye(int(labels.max()) + 1)[labels]
    shape = rows.shape[1], truth.shape[1] - 1

    def loss(flat):
        weights = flat.reshape(shape)
        chances = chances_of(scaled, weights)
        slope = scaled.T @ (count[:, np.newaxis] * (chances - truth)[:, 1:])
        slope[:-1] += 2 * _PENALTY * weights[:-1]
        size = -(count * np.log((chances * truth).sum(axis=1) + 1e-300)).sum()
        return size + _PENALTY * np.square(weights[:-1]).sum(), slope.ravel()

    found = minimize(loss, np.zeros(shape).ravel(), jac=True, method="L-BFGS-B", options={"maxiter": _ROUNDS})
    weights = found.x.reshape(shape) / spread[:, np.newaxis]
    weights[-1] -= middle[:-1] @ weights[:-1]
    return weights


def chances_of(rows: Array, weights: Array) -> Array:
    """Return how likely each row is each label, beginning with natural sound."""
    odds = np.exp(np.clip(np.hstack([np.zeros((len(rows), 1)), rows @ weights]), -60, 60))
    return odds / odds.sum(axis=1, keepdims=True)


def fit_and_tell(
    title: str, examples: Sequence[Example], names: Sequence[str], natural_weighs: float, pool: Executor
) -> Array:
    """Return the weights for all examples, and print what weights make of each recording they were fitted without.

    ``names`` are those of the labels but that of natural sound.
    """
    rows = np.array([list(one.columns.values()) for one in examples])
    labels, files = np.array([one.label for one in examples]), np.array([one.file for one in examples])
    kept = [np.ones(len(rows), np.bool_), *(files != file for file in np.unique(files))]
    whole, *others = pool.map(
        fitted, [rows[keep] for keep in kept], [labels[keep] for keep in kept], [natural_weighs] * len(kept)
    )
    print(f"{title}, fitted without the recording: found at all (and as what it is); natural ones taken for damage")
    for keep, weights in zip(kept[1:], others, strict=True):
        chances, own = chances_of(rows[~keep], weights), labels[~keep]
        is_damage, likeliest = chances[:, 0] < 0.5, 1 + chances[:, 1:].argmax(axis=1)
        right = is_damage & (likeliest == own)
        told = [
            f"{name} {is_damage[own == label].mean():.3f} ({right[own == label].mean():.3f})"
            for label, name in enumerate(names, 1)
            if (own == label).any()
        ]
        print(f"  {files[~keep][0]:24} {'  '.join(told)}  natural {is_damage[own == 0].sum()} of {(own == 0).sum()}")
    return whole
