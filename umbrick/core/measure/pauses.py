"""Pauses: where a recording holds nothing but its room tone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source
from umbrick.core.units import SILENCE_DBFS

_FRAME_SECONDS = 0.01
_LEAST_SECONDS = 0.12
_MARGIN_DB = 6.0
_DEPTH_DB = 12.0
"""A pause is at least so far below the loudest twentieth: a held tone has none."""

_FLOOR_PERCENTILE = 8
_EDGE_SECONDS = 0.02
_WINDOW_SECONDS = 20.0
_REACH_SECONDS = 60.0
_FRAMES_AT_ONCE = 1000


@dataclass(frozen=True, slots=True)
class PauseRule:
    """What counts as a pause: how far over the noise floor it may be, and how much of its start and end, which may
    still belong to the sound beside it, is left out."""

    margin_db: float = _MARGIN_DB
    after_seconds: float = _EDGE_SECONDS
    before_seconds: float = _EDGE_SECONDS


USUAL = PauseRule()


def next_pause(source: Source, after: int) -> tuple[int, int] | None:
    """Return the first pause after a place, without its edges, or None if none begins within a minute.

    A pause is at least 120 ms in which the level stays within 6 dB of the noise floor; that is the level which 8 % of
    the 10 ms frames around do not reach, digital silence left out.
    """
    step = round(_WINDOW_SECONDS * source.rate)
    for start in range(after, min(source.frames, after + round(_REACH_SECONDS * source.rate)), step):
        # One second more, so that a pause across the bound is seen whole.
        if found := _pauses(source, start, min(source.frames, start + step + source.rate)):
            return found[0]
    return None


def nearest_pause(source: Source, position: int, spared: tuple[int, int] = (0, 0)) -> tuple[int, int] | None:
    """Return the pause nearest to a place, before or after it, or None if there is none within twenty seconds.

    Of what is ``spared``, such as a hole, nothing is part of it.
    """
    reach = round(_WINDOW_SECONDS * source.rate)
    found = _pauses(source, max(0, position - reach), min(source.frames, position + reach))
    parts = [part for start, stop in found for part in ((start, min(stop, spared[0])), (max(start, spared[1]), stop))]
    if spared[0] < spared[1]:
        found = [(start, stop) for start, stop in parts if stop - start >= _LEAST_SECONDS * source.rate]
    return min(found, key=lambda span: max(span[0] - position, position - span[1], 0)) if found else None


def all_pauses(
    source: Source,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
    rule: PauseRule = USUAL,
) -> list[tuple[int, int]]:
    """Return every pause of a source, each measured against the twenty seconds around it; see :func:`next_pause`.

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so.
    """
    rate, frame = source.rate, _frame(source.rate)
    step = reach = round(_WINDOW_SECONDS * rate)
    levels_db = _all_levels_db(source, progress, is_cancelled)
    found: list[tuple[int, int]] = []
    for start in range(0, source.frames, step):
        # A second more on either side, so that a pause across the bound of two windows is seen whole, and then once.
        low, high = max(0, start - rate), min(source.frames, start + step + rate)
        first = max(0, low - reach) // frame
        around = levels_db[first : (high + reach) // frame]
        for begin, end in _within(around, first * frame, (low, high), rate, rule):
            if found and begin <= found[-1][1]:
                found[-1] = min(begin, found[-1][0]), max(end, found[-1][1])
            else:
                found.append((begin, end))
    return found


def _all_levels_db(
    source: Source, progress: Callable[[float], None], is_cancelled: Callable[[], bool]
) -> npt.NDArray[np.float64]:
    frame = _frame(source.rate)
    parts = [np.zeros(0)]
    for start, stop in blocks_of([(0, source.frames)], frame * _FRAMES_AT_ONCE, progress, is_cancelled):
        parts.append(_levels_db(source, start, stop, frame))
    return np.concatenate(parts)


def _pauses(source: Source, start: int, stop: int) -> list[tuple[int, int]]:
    reach = round(_WINDOW_SECONDS * source.rate)
    first = max(0, start - reach)
    levels_db = _levels_db(source, first, min(source.frames, stop + reach), _frame(source.rate))
    return _within(levels_db, first, (start, stop), source.rate, USUAL)


def _within(
    levels_db: npt.NDArray[np.float64], first: int, window: tuple[int, int], rate: int, rule: PauseRule
) -> list[tuple[int, int]]:
    """Return the pauses in a window, by the levels of the frames around it, the first of which begins at ``first``."""
    if not len(levels_db):
        return []
    frame = _frame(rate)
    sounding = levels_db[levels_db > SILENCE_DBFS]
    floor_db = float(np.percentile(sounding, _FLOOR_PERCENTILE)) if len(sounding) else SILENCE_DBFS
    quiet = levels_db <= min(floor_db + rule.margin_db, float(np.percentile(levels_db, 95)) - _DEPTH_DB)
    at = first + frame * np.arange(len(levels_db))
    quiet &= (at >= window[0]) & (at + frame <= window[1])
    edges = np.flatnonzero(np.diff(quiet, prepend=False, append=False)).tolist()
    after, before = round(rule.after_seconds * rate), round(rule.before_seconds * rate)
    least = _LEAST_SECONDS * rate + after + before - 2 * round(_EDGE_SECONDS * rate)
    return [
        (first + begin * frame + after, first + end * frame - before)
        for begin, end in zip(edges[::2], edges[1::2], strict=True)
        if (end - begin) * frame >= least
    ]


def _frame(rate: int) -> int:
    return max(1, round(_FRAME_SECONDS * rate))


def _levels_db(source: Source, start: int, stop: int, frame: int) -> npt.NDArray[np.float64]:
    count = max(0, stop - start) // frame
    sound = source.read(start, start + count * frame).astype(np.float64)
    power = np.square(sound).mean(axis=1).reshape(count, frame).mean(axis=1) if count else np.zeros(0)
    return np.maximum(10 * np.log10(power + 10 ** (SILENCE_DBFS / 10)), SILENCE_DBFS)
