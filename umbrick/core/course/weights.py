"""How a step comes and goes at the edges of its spans."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.timeline.runs import Integers

Wave = npt.NDArray[np.float64]


def weights(spans: Integers, ramp: int, start: int, stop: int, frames: int) -> Wave:
    """Return how much of a step each frame from ``start`` to ``stop`` gets, from 0 to 1.

    Parameters
    ----------
    spans : ndarray of int, shape (n, 2)
        Where it acts, in order and apart. Outside of them it does nothing.
    ramp : int
        Frames of the raised cosine at each edge, inside the span; at most half of it. Where a span ends with the
        recording, whose length is ``frames``, there is none.
    """
    made = np.zeros(stop - start)
    first = np.searchsorted(spans[:, 1], start, side="right")
    last = np.searchsorted(spans[:, 0], stop, side="left")
    for begin, end in spans[first:last].tolist():
        low, high = max(begin, start), min(end, stop)
        at = np.arange(low, high)
        width = max(1, min(ramp, (end - begin) // 2))
        inside = np.full(high - low, float(width))
        if begin > 0:
            inside = np.minimum(inside, at - begin + 0.5)
        if end < frames:
            inside = np.minimum(inside, end - at - 0.5)
        made[low - start : high - start] = 1.0 if ramp == 0 else 0.5 - 0.5 * np.cos(np.pi * inside / width)
    return made
