"""Leaning tops: flat tops of clipped sound after its level was moved, by a fader or by a gain control.

The top leans as the gain does, and no two lie at one level; but it is still a straight line that breaks off at both
ends, downward on either side. A natural top bends all the way. So a straight top speaks for itself; that the others
nearby lie on one smooth curve over time, which nothing passes, is further proof.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.tops.flat_tops import Floats, Integers, Tops

_STRAIGHT = 8e-6
"""By how much a sample may lie off the middle of its neighbours, as a share of its level."""

_STRAIGHT_STEPS = 2.1
"""And in steps of the file's values: three rounded ones."""

_BREAKS_OFF, _BREAKS_OFF_CLEARLY = 1.5, 3.0
"""How many times further than a natural top the sound falls below the line's extension, a sample beyond either end."""

_FEWEST, _FEWEST_OF_A_SEED = 4, 5
_QUIETEST = 0.02
_STEEPEST = 0.1
"""By which share of its level a top may rise or fall from end to end."""

_NEAR, _NEAREST_SECONDS, _APART_SECONDS = 0.002, 0.3, 3.0
_OFF_THE_CURVE = 0.02
_BITS_A_TOP, _MOST_BITS_A_TOP = 1.0, 8.0
_FEWEST_SEEDS = 6


class Lines(NamedTuple):
    """Straight stretches of a wave, of either sign: first frames, and those after the last."""

    start: Integers
    stop: Integers


def straight_lines(wave: Floats, steps: Floats, slot: int) -> Lines:
    """Return the straight stretches of one channel that are not too quiet to be tops.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    steps : ndarray
        For each slot the distance between neighbouring sample values, 0 if they are not quantised.
    slot : int
        Frames in a slot.
    """
    size = np.abs(wave)
    rounding = np.repeat(np.float32(_STRAIGHT_STEPS) * steps.astype(np.float32), slot)[1 : len(wave) - 1]
    off_line = np.abs(np.diff(np.diff(wave)))
    straight = (off_line <= np.maximum(rounding, np.float32(_STRAIGHT) * size[1:-1])) & (size[1:-1] > _QUIETEST)
    # Sample i + 1 lies between its neighbours: the line begins one before the first and ends one after the last. Two
    # such samples make a line of the fewest, and few are beside another.
    pairs = np.flatnonzero(straight[1:] & straight[:-1])
    firsts = np.flatnonzero(np.diff(pairs, prepend=-2) > 1)
    lasts = np.append(firsts[1:], len(pairs)) - 1 if len(firsts) else firsts
    start, stop = pairs[firsts], pairs[lasts] + _FEWEST
    inside = (start >= 2) & (stop + 2 <= len(wave))
    return Lines(start[inside], stop[inside])


def leaning_tops(wave: Floats, lines: Lines, steps: Floats, slot: int) -> Tops:
    """Return the straight tops of one channel's upper side.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Negated for the lower side.
    lines : Lines
        Its straight stretches.
    steps : ndarray
        For each slot the distance between neighbouring sample values, 0 if they are not quantised.
    slot : int
        Frames in a slot.

    Returns
    -------
    Tops
        ``cut`` is how many times further than a natural top the sound falls off beyond the ends.
    """
    is_upper = wave[lines.start] > 0
    start, stop = lines.start[is_upper], lines.stop[is_upper]
    first, last = wave[start], wave[stop - 1]
    slope = (last - first) / (stop - 1 - start)
    falls = np.minimum(first - slope - wave[start - 1], last + slope - wave[stop])
    allowed = np.maximum(np.float32(_STRAIGHT_STEPS) * steps[start // slot], np.float32(_STRAIGHT) * first)
    # A parabola within what is allowed falls so far below its chord.
    natural = allowed * (1 + (stop - start) / np.float32(2))
    is_top = (falls > _BREAKS_OFF * natural) & (np.abs(last - first) <= _STEEPEST * first)
    level = np.maximum(first, last)
    cut = (falls / np.maximum(natural, np.float32(1e-12))).astype(np.float32)
    return Tops(start, stop - start, level, cut).where(is_top)


def leaning_rails(tops: Tops, short: Tops, levels: Floats, slot: int, rate: int) -> list[tuple[Tops, float]]:
    """Return the tops on each rail that moves, passage by passage, each with its evidence in bits.

    Parameters
    ----------
    tops : Tops
        Straight ones, in order of time.
    short : Tops
        Others, too short to be straight: those on the curve between straight ones nearby belong to it.
    levels : ndarray
        The highest sample of each slot.
    slot, rate : int
        Frames in a slot, frames a second.
    """
    seeds = tops.where((tops.length >= _FEWEST_OF_A_SEED) & (tops.cut > _BREAKS_OFF_CLEARLY))
    seeds = seeds.where(~_is_passed(seeds, levels, slot))
    rails = []
    for part in np.split(np.arange(len(seeds.start)), np.flatnonzero(np.diff(seeds.start) > _APART_SECONDS * rate) + 1):
        if len(part) < _FEWEST_SEEDS:
            continue
        own = seeds.where(part)
        beyond = np.minimum(own.length - _FEWEST_OF_A_SEED + 1, 4) * np.log2(own.cut / _BREAKS_OFF)
        bits = float(np.clip(beyond - _BITS_A_TOP, 0.0, _MOST_BITS_A_TOP).sum())
        rails.append((_on_curve(own, tops, short, rate), bits))
    return rails


def _on_curve(seeds: Tops, tops: Tops, short: Tops, rate: int) -> Tops:
    """Return the straight tops, and the short ones, on the curve that the seeds of a passage mark out."""
    low, high = seeds.start[0], seeds.start[-1]

    def lie_on(some: Tops, within: float) -> npt.NDArray[np.bool_]:
        rail = np.interp(some.start, seeds.start, seeds.level)
        return (some.start >= low) & (some.start <= high) & (np.abs(some.level - rail) <= within * rail)

    straight = tops.where(lie_on(tops, _OFF_THE_CURVE))
    near = short.where(lie_on(short, _NEAR))
    after = np.clip(np.searchsorted(straight.start, near.start), 1, max(1, len(straight.start) - 1))
    distance = np.minimum(
        np.abs(straight.start[np.minimum(after, len(straight.start) - 1)] - near.start),
        np.abs(near.start - straight.start[after - 1]),
    )
    near = near.where((distance <= _NEAREST_SECONDS * rate) & ~_covered(near, straight))
    joined = Tops.joined([straight, near])
    return joined.where(np.argsort(joined.start, kind="stable"))


def _covered(some: Tops, by: Tops) -> npt.NDArray[np.bool_]:
    """Return which tops lie in the span of another one, given in order of time."""
    before = np.searchsorted(by.start, some.start, side="right") - 1
    stops = by.start + by.length
    left = (before >= 0) & (stops[np.maximum(before, 0)] > some.start)
    following = np.minimum(before + 1, len(by.start) - 1)
    return np.asarray(left | (by.start[following] < some.start + some.length) & (by.start[following] >= some.start))


def _is_passed(tops: Tops, levels: Floats, slot: int) -> npt.NDArray[np.bool_]:
    """Whether the sound within a slot or two passes a top: then it is no ceiling."""
    if not len(levels):
        return np.zeros(len(tops.start), np.bool_)
    at: Integers = np.clip(tops.start // slot, 0, len(levels) - 1)
    highest = np.maximum(levels[np.maximum(at - 1, 0)], levels[np.minimum(at + 1, len(levels) - 1)])
    return np.asarray(np.maximum(highest, levels[at]) > tops.level * np.float32(1 + 5 * _OFF_THE_CURVE))
