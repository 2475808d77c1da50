"""Buffers in the wrong order: two pieces of one length that changed places, with a break at each of their ends."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.model.across import models_beside, unlike_across
from umbrick.core.model.autoregression import Model

Wave = npt.NDArray[np.float64]

_SHORTEST, _LONGEST_SECONDS = 48, 0.17
_SLACK = 8
_MOST_BREAKS = 60
_GAIN_DB, _LEFT_DB, _CLEAR_GAIN_DB = 8.0, 7.0, 16.0
"""By how much all three joins must be better in the other order, and how little unlike what is foretold; what is far
better need not be that like."""


class Swapped(NamedTuple):
    """Two pieces of ``length`` frames each, the first beginning at ``start``, that are in the wrong order."""

    start: int
    length: int


def swapped(wave: Wave, breaks: list[int], rate: int) -> list[Swapped]:
    """Return the pieces that are in the wrong order.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    breaks : list of int
        Where it breaks off, to within a few frames, ascending; the one between the pieces may have been missed.
    rate : int
    """
    found: list[Swapped] = []
    if len(breaks) > _MOST_BREAKS:
        return found
    known = np.array(breaks)
    for first in breaks:
        if found and first < found[-1].start + 2 * found[-1].length - _SLACK:
            continue
        later = known[(known >= first + 2 * _SHORTEST) & (known <= first + 2 * _LONGEST_SECONDS * rate)]
        tried = (_in_order(wave, first, first + (last - first) // 2, rate) for last in later.tolist())
        found += [pieces for pieces in tried if pieces is not None][:1]
    return found


def _in_order(wave: Wave, first: int, middle: int, rate: int) -> Swapped | None:
    """Return the two pieces about some breaks that go on in the other order, if they do."""
    length = middle - first
    models = models_beside(wave, first - _SLACK, first + 2 * length + 3 * _SLACK, rate)
    if not models:
        return None
    best, least = None, np.inf
    for start in range(first - _SLACK, first + _SLACK + 1):
        for size in range(length - _SLACK, length + _SLACK + 1):
            worst = _worst_join(wave, start, size, models, least)
            if worst < least:
                best, least = Swapped(start, size), worst
    if best is None:
        return None
    gains_db = [
        _db(now) - _db(then)
        for now, then in zip(_joins(wave, best, models, False), _joins(wave, best, models, True), strict=True)
    ]
    needed_db = _GAIN_DB if _db(least) <= _LEFT_DB else _CLEAR_GAIN_DB
    return best if min(gains_db) >= needed_db else None


def _worst_join(wave: Wave, start: int, size: int, models: list[Model], most: float) -> float:
    """Return how unlike what is foretold the sound is after the worst of the joins in the other order; once it is more
    than ``most`` the others are not looked at."""
    worst = 0.0
    for out, into in _turned(start, size):
        worst = max(worst, unlike_across(wave[:out], wave[into:], models))
        if worst > most:
            break
    return worst


def _joins(wave: Wave, pieces: Swapped, models: list[Model], is_turned: bool) -> list[float]:
    """Return how unlike what is foretold the sound is after each of the three joins, in the other order or in this."""
    turned = _turned(*pieces)
    pairs = turned if is_turned else [(at, at) for at in (turned[0][0], turned[0][1], turned[1][0])]
    return [unlike_across(wave[:out], wave[into:], models) for out, into in pairs]


def _turned(start: int, size: int) -> list[tuple[int, int]]:
    """Return where each piece ends and the next begins when the two have changed places."""
    middle, stop = start + size, start + 2 * size
    return [(start, middle), (stop, start), (middle, stop)]


def _db(ratio: float) -> float:
    return float(10 * np.log10(max(ratio, 1e-12)))
