"""Buffers in the wrong order: two pieces of one length that changed places, with a break at each of their ends."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.model.across import Beside, unlike_across, unlike_across_all, unlike_within

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

    @property
    def seams(self) -> tuple[int, int, int]:
        """Where it breaks off."""
        return self.start, self.start + self.length, self.start + 2 * self.length


def swapped(wave: Wave, breaks: Mapping[int, bool], rate: int) -> list[Swapped]:
    """Return the pieces that are in the wrong order.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    breaks : mapping of int to bool
        Where it breaks off, to within a few frames, ascending, and whether a break is likely there by itself: one seam
        of two may look like a click. The one between the pieces may have been missed.
    rate : int
    """
    found: list[Swapped] = []
    if len(breaks) > _MOST_BREAKS:
        return found
    known, beside = np.array(list(breaks)), Beside(wave, rate)
    for first, is_likely in breaks.items():
        if found and first < found[-1].start + 2 * found[-1].length - _SLACK:
            continue
        later = known[(known >= first + 2 * _SHORTEST) & (known <= first + 2 * _LONGEST_SECONDS * rate)]
        likely = (last for last in later.tolist() if is_likely or breaks[last])
        tried = (_in_order(wave, first, last, beside) for last in likely)
        found += [pieces for pieces in tried if pieces is not None][:1]
    return found


def _in_order(wave: Wave, first: int, last: int, beside: Beside) -> Swapped | None:
    """Return the two pieces about some breaks that go on in the other order, if they do."""
    length = (last - first) // 2
    middle = first + length
    models = beside.models(first - _SLACK, last + 3 * _SLACK)
    if not models:
        return None
    starts = np.arange(first - _SLACK, first + _SLACK + 1)
    middles = np.arange(middle - 2 * _SLACK, middle + 2 * _SLACK + 1)
    stops = np.arange(middle + length - 3 * _SLACK, middle + length + 3 * _SLACK + 1)
    if middles[0] <= starts[-1] or stops[-1] + models[0].order > len(wave):
        return None
    # From the end of each piece to the beginning of the one that follows it when they change places.
    (to_first,) = unlike_across_all(wave, [(stops, starts)], models)
    # Two breaks are mostly two clicks, with nothing in the middle that any other order could better.
    if unlike_within(wave, middles, models).max() < 10 ** (_GAIN_DB / 10) * to_first.min():
        return None
    to_second, to_rest = unlike_across_all(wave, [(starts, middles), (middles, stops)], models)
    at, size = np.meshgrid(np.arange(len(starts)), np.arange(length - _SLACK, length + _SLACK + 1), indexing="ij")
    second = starts[at] + size - middles[0]
    rest = starts[at] + 2 * size - stops[0]
    joins = np.stack([to_second[at, second], to_first[rest, at], to_rest[second, rest]])
    best = int(joins.max(axis=0).argmin())
    then = joins.reshape(3, -1)[:, best]
    pieces = Swapped(int(starts[at.flat[best]]), int(size.flat[best]))
    now = [unlike_across(wave[:seam], wave[seam:], models) for seam in pieces.seams]
    gains_db = 10 * np.log10(np.array(now) / then)
    needed_db = _GAIN_DB if 10 * np.log10(then.max()) <= _LEFT_DB else _CLEAR_GAIN_DB
    return pieces if gains_db.min() >= needed_db else None
