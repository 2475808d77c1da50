"""How like a stretch of sound is to what came a pitch cycle before it."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, next_fast_len, rfft

from umbrick.core.model.parabola import top_of

Floats = npt.NDArray[np.float32]


class Cycles(NamedTuple):
    """For each segment the normalised correlation with what came a cycle before, and the cycle's length, in samples."""

    likeness: npt.NDArray[Any]
    lag: npt.NDArray[Any]


def best_cycles(segments: Floats, powers: Floats, shortest: int, least_power: float | np.float32) -> Cycles:
    """Return the likeliest cycle of the end of each segment, between samples by a parabola through the top.

    Parameters
    ----------
    segments : ndarray, shape (n, reach + size)
        The stretch itself is the last ``size`` samples; what came before reaches back over the longest cycle.
    powers : ndarray, shape (n, reach)
        The product of the stretch's energy and that of the stretch each lag before, the longest first.
    shortest : int
        No cycle is shorter, in samples.
    least_power : float
        Products of energies below this count as this: silence is like nothing.

    References
    ----------
    The normalised cross-correlation: B. S. Atal, 1968.
    """
    reach = powers.shape[1]
    length = next_fast_len(segments.shape[1], real=True)
    own = segments[:, reach:]
    products = irfft(rfft(segments, length, axis=1) * np.conj(rfft(own, length, axis=1)), length, axis=1)[:, :reach]
    lags = slice(0, reach - shortest)
    likeness = products[:, lags] / np.sqrt(np.maximum(powers[:, lags], least_power))
    best = np.clip(likeness.argmax(axis=1), 1, likeness.shape[1] - 2)
    rows = np.arange(len(best))
    left, top, right = (likeness[rows, best + shift] for shift in (-1, 0, 1))
    between = top_of(left, top, right)
    return Cycles(top - 0.25 * (left - right) * between, reach - best - between)
