"""The seam score: how little a join stands out against the sound around it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

_ORDER = 3
_USUAL = 0.1
"""A seam no less likely than this among the sound's own steps counts as one of them."""

Masks = npt.NDArray[np.bool_]
Integers = npt.NDArray[np.int64]


def seam_scores(samples: npt.NDArray[np.float64], made: Masks, starts: Integers, stops: Integers) -> list[float]:
    """Return how little the two edges of rebuilt runs stand out.

    A jump in level, slope or curvature shows in the third difference of the samples. The largest at a run's edges is
    compared with those of the untouched sound in the same excerpt: how likely is it that as many of these, taken at
    random, hold one as large? A run scores 1 if that is so at least one time in ten, and 0 if none is as large.

    Parameters
    ----------
    samples : ndarray, shape (frames, channels)
        An excerpt with the rebuilt samples in it.
    made : ndarray of bool, same shape
        Which samples were rebuilt.
    starts, stops : ndarray of int
        The runs of frames in which any channel was rebuilt.

    Returns
    -------
    list of float
        One score a run, from 0 to 1; 1 where there is too little sound around to tell.
    """
    frames, channels = samples.shape
    if frames <= _ORDER:
        return [1.0] * len(starts)
    steps = np.abs(np.diff(samples, _ORDER, axis=0))
    # Step i reaches from sample i to i + 3.
    touched: Masks = np.zeros(steps.shape, np.bool_)
    for reach in range(_ORDER + 1):
        touched |= made[reach : reach + len(steps)]
    own = [np.sort(steps[~touched[:, channel], channel]) for channel in range(channels)]
    scores = []
    for start, stop in zip(starts.tolist(), stops.tolist(), strict=True):
        score = 1.0
        for channel in np.flatnonzero(made[start:stop].any(axis=0)).tolist():
            edges = [part for edge in (start, stop) if (part := steps[max(0, edge - _ORDER) : edge, channel]).size]
            if not edges or not len(own[channel]):
                continue
            beside = np.concatenate(edges)
            smaller = float(np.searchsorted(own[channel], beside.max())) / len(own[channel])
            score = min(score, (1.0 - smaller ** len(beside)) / _USUAL)
        scores.append(float(min(1.0, score)))
    return scores
