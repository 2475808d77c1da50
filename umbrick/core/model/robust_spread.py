"""How far values scatter, whatever a few of them are."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

_OF_A_NORMAL = 1.4826
"""What the median absolute deviation of normal values is multiplied by to be their standard deviation."""


def robust_spread(values: npt.NDArray[Any], about: float | None = None) -> float:
    """Return the standard deviation of most of some values, without regard to a few that are far off.

    Parameters
    ----------
    values : ndarray, shape (n,)
        At least one.
    about : float, optional
        Their middle, the median if not given.

    References
    ----------
    The median absolute deviation: F. R. Hampel, "The influence curve and its role in robust estimation", 1974.
    """
    middle = np.median(values) if about is None else about
    return _OF_A_NORMAL * float(np.median(np.abs(values - middle)))
