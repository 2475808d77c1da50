"""Evening out a spectrum over frequency, so that a change of it keeps the grain of the sound."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

_OCTAVES = 1 / 3


def evened_power(power: npt.NDArray[np.floating], hz: npt.NDArray[np.float64]) -> npt.NDArray[Any]:
    """Return powers of lines as means over a third of an octave, and no less than three lines.

    Parameters
    ----------
    power : ndarray, shape (…, lines)
    hz : ndarray, shape (lines,)
        The frequencies of the lines, evenly spaced from 0.
    """
    summed = np.cumsum(power, axis=-1)
    summed = np.concatenate([np.zeros((*summed.shape[:-1], 1), summed.dtype), summed], axis=-1)
    half = np.maximum(1, np.round(hz * (2 ** (_OCTAVES / 2) - 1) / hz[1])).astype(np.int64)
    lines = np.arange(len(hz))
    first, last = np.maximum(0, lines - half), np.minimum(len(hz), lines + half + 1)
    return (summed[..., last] - summed[..., first]) / (last - first).astype(summed.dtype)
