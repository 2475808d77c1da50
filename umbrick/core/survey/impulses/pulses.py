"""Whether an impulse comes again in just its shape: a voice and a frog pulse so, a tongue never smacks twice alike."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

_HALF_SECONDS = 0.0015
_SOONEST_SECONDS, _LATEST_SECONDS = 0.004, 0.025
_LEAST_LIKENESS = 0.965


def comes_again(wave: npt.NDArray[np.float32], at: int, rate: int) -> bool:
    """Whether the three milliseconds around a place are found again, louder or fainter, within 25 ms of it.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    at : int
        The place, in frames of the wave.
    rate : int

    Notes
    -----
    By the normalized correlation of the stretch with those around.
    """
    half, soonest, latest = (round(s * rate) for s in (_HALF_SECONDS, _SOONEST_SECONDS, _LATEST_SECONDS))
    if at < half or at + half > len(wave):
        return False
    own = _centred(wave[at - half : at + half][np.newaxis])[0]
    sides = (wave[max(0, at - latest - half) : at - soonest + half], wave[at + soonest - half : at + latest + half])
    for side in sides:
        if len(side) < 2 * half:
            continue
        others = _centred(np.lib.stride_tricks.sliding_window_view(side, 2 * half))
        powers = np.maximum(np.square(others).sum(axis=1) * (own @ own), 1e-24)
        if (others @ own / np.sqrt(powers)).max() >= _LEAST_LIKENESS:
            return True
    return False


def _centred(rows: npt.NDArray[np.float32]) -> npt.NDArray[np.float64]:
    wide = rows.astype(np.float64)
    return wide - wide.mean(axis=1, keepdims=True)
