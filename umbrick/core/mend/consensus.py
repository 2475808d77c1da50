"""Declipping by consensus: several ways rebuild the sound, each is wrong in its own way, and their mean is less so."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.mend import prediction, sparse
from umbrick.core.model.bounds import Mask, Wave

_FRAMES_SECONDS = (0.085, 0.043, 0.17)
"""Lengths of the sparse method's frames: short ones suit what is struck, long ones what is held."""

_REFINING_ORDER = 256
_SINGLE_SHARE = 0.004
"""Up to this share of clipped samples the gaps are so short that prediction alone rebuilds them, and much faster."""

_REHEARSED_SHARE = 0.12
"""Up to this share, how well the edges of the gaps can be foretold tells how well their middles can."""

_LOWER = 0.8
_REHEARSED_SECONDS = 0.6
_FEWEST = 16
_CERTAIN_DB = 6.0


def rebuild(wave: Wave, clipped: Mask, rate: int, is_cancelled: Callable[[], bool] = lambda: False) -> Wave:
    """Return the wave with its clipped samples as several ways agree on them, at or beyond the rail.

    The sparse spectrum is sought in frames of three lengths; the mean of the three is the start of one pass of
    consistent linear prediction, and counts as much as what that makes of it. Where little is clipped, prediction
    alone is given as much weight as it earns in a rehearsal on this very sound.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Not changed.
    clipped : ndarray of bool, shape (n,)
        Samples that stand on a rail. Others come back unchanged.
    rate : int
        Samples a second.
    is_cancelled : callable
        CancelledError is raised soon after it says so.

    Notes
    -----
    That the mean of estimates whose errors differ is nearer to the truth than each is the bias-variance argument for
    averaging (L. Breiman, "Bagging predictors", 1996). The bounds are convex, so a mean of consistent sounds is
    consistent. The rehearsal is ours.
    """
    share = float(clipped.mean())
    if share <= _SINGLE_SHARE:
        return prediction.rebuild(wave, clipped, is_cancelled=is_cancelled)
    sparse_mean = np.mean(
        [sparse.rebuild(wave, clipped, rate, seconds, is_cancelled=is_cancelled) for seconds in _FRAMES_SECONDS], axis=0
    )
    refined = prediction.rebuild(
        wave, clipped, start=sparse_mean, order=_REFINING_ORDER, sweeps=1, is_cancelled=is_cancelled
    )
    agreed = (sparse_mean + refined) / 2
    trust = _trust_in_prediction(wave, clipped, rate, is_cancelled) if share <= _REHEARSED_SHARE else 0.0
    if trust == 0:
        return agreed
    predicted = prediction.rebuild(wave, clipped, is_cancelled=is_cancelled)
    return np.asarray((1 - trust) * agreed + trust * predicted)


def _trust_in_prediction(wave: Wave, clipped: Mask, rate: int, is_cancelled: Callable[[], bool]) -> float:
    """Return how much prediction should count, from 0 to 1, by clipping the sound a little lower still.

    The samples between the two rails are known: prediction and the sparse spectrum are both tried on them.
    """
    start, stop = _most_clipped(clipped, round(_REHEARSED_SECONDS * rate))
    part, known_bad = wave[start:stop], clipped[start:stop]
    high, low = _rail(part[known_bad & (part > 0)]), -_rail(-part[known_bad & (part < 0)])
    lowered = np.clip(part, _LOWER * low, _LOWER * high)
    damaged = known_bad | (lowered != part)
    held_out = damaged & ~known_bad
    if held_out.sum() < _FEWEST or damaged.all():
        return 0.0
    errors = [
        float(np.square(made - part)[held_out].sum())
        for made in (
            sparse.rebuild(lowered, damaged, rate, is_cancelled=is_cancelled),
            prediction.rebuild(lowered, damaged, is_cancelled=is_cancelled),
        )
    ]
    ratio_db = 10 * np.log10((errors[0] + 1e-20) / (errors[1] + 1e-20))
    return float(np.clip(ratio_db / _CERTAIN_DB, 0.0, 1.0))


def _rail(heights: Wave) -> float:
    """Return the lowest of clipped samples' heights; no limit if there are none."""
    return float(heights.min()) if len(heights) else np.inf


def _most_clipped(clipped: Mask, length: int) -> tuple[int, int]:
    """Return the stretch of some length that holds the most clipped samples."""
    if length >= len(clipped):
        return 0, len(clipped)
    counts = np.concatenate([[0], np.cumsum(clipped)])
    start = int(np.argmax(counts[length:] - counts[:-length]))
    return start, start + length
