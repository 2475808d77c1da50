"""Declipping with the help of a channel that has the sound intact."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
from scipy.ndimage import binary_dilation

from umbrick.core.mend.declipping import prediction
from umbrick.core.mend.filling.experts import ROOM_TAPS, heard_elsewhere
from umbrick.core.model.bounds import Bounds, Mask, Wave

_BLOCK_SECONDS = 1.0
_BESIDE_SECONDS = 0.25
_FEWEST = 40 * ROOM_TAPS
_LIKE = 0.1
"""Up to this share of the power that the other channel does not explain, it is asked."""

_ORDER = 128


def helped(
    rebuilt: Wave,
    clipped: Mask,
    bounds: Bounds,
    others: Sequence[tuple[Wave, Mask]],
    rate: int,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Wave:
    """Return a rebuilt wave, bettered where another channel that is alike has the sound intact.

    Second by second the other channel is filtered to be like the wave where both are intact. What it lacks is the
    difference, which is much smaller than the sound: its unknown samples are found by linear prediction, and the rails
    still hold for the sum.

    Parameters
    ----------
    rebuilt : ndarray, shape (n,)
        Not changed.
    clipped : ndarray of bool, shape (n,)
        Samples that stood on a rail.
    bounds : Bounds
        Of the clipped wave.
    others : sequence of pairs
        Other channels, and where each is damaged.
    rate : int
        Samples a second.
    is_cancelled : callable
        CancelledError is raised soon after it says so.

    References
    ----------
    The filter is N. Wiener's (1949); that only the difference between channels is declipped is ours.
    """
    result = rebuilt.copy()
    block, beside = round(_BLOCK_SECONDS * rate), round(_BESIDE_SECONDS * rate)
    near = np.ones(2 * ROOM_TAPS + 1, np.bool_)
    others = [(other, ~binary_dilation(damaged, near)) for other, damaged in others]
    for start in range(0, len(rebuilt), block):
        if not clipped[start : start + block].any():
            continue
        part = slice(max(0, start - beside), min(len(rebuilt), start + block + beside))
        told = [_told(result[part], clipped[part], other[part], intact[part]) for other, intact in others]
        best = min((one for one in told if one), key=lambda one: one.unexplained, default=None)
        if best is None:
            continue
        inside = clipped[part] & best.known
        inside[: start - part.start] = False
        inside[start - part.start + block :] = False
        if not inside.any():
            continue
        difference = np.where(inside, 0.0, result[part] - best.sound)
        remaining = Bounds(bounds.low[part] - best.sound, bounds.high[part] - best.sound)
        found = prediction.rebuild(
            difference,
            inside,
            start=difference,
            order=_ORDER,
            to_ends=True,
            bounds=remaining,
            is_cancelled=is_cancelled,
        )
        result[part][inside] = (best.sound + found)[inside]
    return bounds.applied(result)


class _Told(NamedTuple):
    """What another channel tells of a wave, where it knows, and the share of the wave's power it does not explain."""

    sound: Wave
    known: Mask
    unexplained: float


def _told(wave: Wave, clipped: Mask, other: Wave, intact: Mask) -> _Told | None:
    """Return what another channel tells of a wave; None if that is too little."""
    both = ~clipped & intact
    if both.sum() < _FEWEST or not (clipped & intact).any():
        return None
    sound = heard_elsewhere(wave, other, both)
    power = float(np.sum(wave[both] ** 2))
    unexplained = float(np.sum((wave - sound)[both] ** 2)) / power if power > 0 else 1.0
    return _Told(sound, intact, unexplained) if unexplained <= _LIKE else None
