"""The seam score: how little a join stands out against the sound around it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

_ORDER = 3
_USUAL = 0.1
"""The share of the sound's own steps that may be smaller still for a seam to count as one of them: 1 - the 90th
percentile."""

Masks = npt.NDArray[np.bool_]
Integers = npt.NDArray[np.int64]


def seam_scores(samples: npt.NDArray[np.float64], made: Masks, starts: Integers, stops: Integers) -> list[float]:
    """Return how little the two edges of rebuilt runs stand out.

    A jump in level, slope or curvature shows in the third difference of the samples. It is compared with the third
    differences of the untouched sound in the same excerpt: a run scores 1 if at least a tenth of these are as large as
    the larger of its own at the edges, and 0 if none is.

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
    touched = np.lib.stride_tricks.sliding_window_view(made, _ORDER + 1, axis=0).any(axis=-1)
    own = [np.sort(steps[~touched[:, channel], channel]) for channel in range(channels)]
    scores = []
    for start, stop in zip(starts.tolist(), stops.tolist(), strict=True):
        score = 1.0
        for channel in np.flatnonzero(made[start:stop].any(axis=0)).tolist():
            edges = [part for edge in (start, stop) if (part := steps[max(0, edge - _ORDER) : edge, channel]).size]
            if not edges or not len(own[channel]):
                continue
            largest = max(float(part.max()) for part in edges)
            share = 1.0 - np.searchsorted(own[channel], largest) / len(own[channel])
            score = min(score, share / _USUAL)
        scores.append(float(min(1.0, score)))
    return scores
