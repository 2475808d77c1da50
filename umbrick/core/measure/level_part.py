"""How far the level on one side of a level step goes on: up to where it is that of the other side again."""

from __future__ import annotations

import numpy as np

from umbrick.core.measure.loudness_line import FRAME_SECONDS, Levels, frame_length, loudness_line
from umbrick.core.sound.source import Source

_LONGEST_SECONDS = 180.0
_NEAR_SECONDS = 4.0
_STRETCH = round(0.8 / FRAME_SECONDS)
_SOUNDING_DB = 18.0
_STRETCHES_TO_TELL = 3
_PERCENTILE = 80
_NEARLY = 2
"""By so many frames of 50 ms the border may be off, so as to lie in a quiet place."""


def change_at(source: Source, at: int) -> float:
    """Return by how many dB what sounds in the four seconds after a place is louder than in those before it; NaN where
    nothing does."""
    return _near_db(source, at, is_after=True) - _near_db(source, at, is_after=False)


def part_beside(source: Source, at: int, is_after: bool) -> tuple[int, int] | None:
    """Return the part that begins, or ends, at a level step, with its other border in a quiet place.

    None if it goes on for more than three minutes: it is as likely that all of the recording is so.
    """
    frame, reach = frame_length(source.rate), round(_LONGEST_SECONDS * source.rate)
    low, high = (at, min(source.frames, at + reach)) if is_after else (max(0, at - reach), at)
    own = loudness_line(source, low, high)
    other_db = _near_db(source, at, not is_after)
    own = own if is_after else own[::-1]
    own_db = _level_db(own[: round(_NEAR_SECONDS / FRAME_SECONDS)])
    if np.isnan(own_db) or np.isnan(other_db):
        return None
    border = _border(own, own_db, other_db)
    if border is None:
        is_whole = high == source.frames if is_after else low == 0
        return (low, high) if is_whole else None
    length = border * frame
    return (at, at + length) if is_after else (at - length, at)


def _border(own: Levels, own_db: float, other_db: float) -> int | None:
    """Return after how many frames of the line the level is the other one's for good, or None if it stays."""
    between_db = (own_db + other_db) / 2
    alike = 0
    for first in range(0, len(own) - _STRETCH + 1, _STRETCH):
        level_db = _level_db(own[first : first + _STRETCH])
        if np.isnan(level_db) or level_db < min(own_db, other_db) - _SOUNDING_DB:
            continue
        alike = alike + 1 if (level_db > between_db) == (other_db > between_db) else 0
        if alike == 1:
            turned = first
        if alike == _STRETCHES_TO_TELL:
            around = max(1, turned - _STRETCH)
            # What is as loud as the other side lies after the border, what is not before it, as far as may be.
            lies_after = np.where(own[around : turned + _STRETCH] > between_db, 1, -1) * (
                1 if other_db > between_db else -1
            )
            before = np.concatenate([[0], np.cumsum(lies_after)])[:-1]
            best = np.flatnonzero(before <= before.min() + _NEARLY)
            return around + int(best[np.argmin(own[around + best])])
    return None


def _near_db(source: Source, at: int, is_after: bool) -> float:
    """Return the level of what sounds in the few seconds after, or before, a place; NaN if nothing does."""
    near = round(_NEAR_SECONDS * source.rate)
    span = (at, min(source.frames, at + near)) if is_after else (max(0, at - near), at)
    return _level_db(loudness_line(source, *span))


def _level_db(levels: Levels) -> float:
    """Return the level of what sounds in a part of a line; NaN if nothing does."""
    sounding = levels[levels > levels.max(initial=-np.inf) - _SOUNDING_DB]
    return float(np.percentile(sounding, _PERCENTILE)) if len(sounding) and levels.max() > -90 else float("nan")
