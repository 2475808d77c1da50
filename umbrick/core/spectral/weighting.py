"""Weightings: a curve over frequency, written as ``HZ:DB HZ:DB …``."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import ParameterError

MOST_POINTS = 64
_MOST_DB = 60.0


def parsed_weighting(text: str) -> tuple[tuple[float, float], ...]:
    """Return the points of a curve in the order of their frequencies, in Hz and dB.

    ParameterError if one is not written so, is out of range, or there are more than 64.
    """
    points = []
    for word in text.replace("−", "-").split():
        hz, _, level_db = word.partition(":")
        try:
            point = float(hz), float(level_db)
        except ValueError:
            point = np.nan, np.nan
        if not (0 < point[0] < 1e6 and abs(point[1]) <= _MOST_DB):
            raise ParameterError(f"“{word}” is no point of a curve.", "Write it as HZ:DB, such as 3000:-6.")
        points.append(point)
    if len(points) > MOST_POINTS:
        raise ParameterError(f"A curve has up to {MOST_POINTS} points.")
    return tuple(sorted(points))


def weighting_db(text: str, hz: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return a curve at some frequencies: straight between its points over the logarithm of frequency, level beyond."""
    points = parsed_weighting(text)
    if not points:
        return np.zeros(len(hz))
    at, levels_db = np.array(points).T
    made: npt.NDArray[np.float64] = np.interp(np.log(np.maximum(hz, 1e-3)), np.log(at), levels_db)
    return made
