"""The top of a parabola through three values in a row: where a peak lies between its samples."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

Values = npt.NDArray[Any]


def top_of(left: Values, middle: Values, right: Values) -> Values:
    """Return how far from the middle value, from −0.5 to 0.5 of the distance between two, parabolas have their tops.

    ``middle`` is the highest of each three.
    """
    bend = np.minimum(left - 2 * middle + right, -1e-9)
    return np.asarray(np.clip(0.5 * (left - right) / bend, -0.5, 0.5))
