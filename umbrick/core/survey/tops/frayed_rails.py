"""Frayed rails: flat tops that lossy coding or resampling has roughened.

The tops are no longer flat, but they are still crowded at one level with nothing above: a natural wave's tops thin
out towards its highest, a clipped one's end in a crowd. A steady tone is crowded too, yet each of its tops turns
like a parabola, or is as long as the next; coding noise on a cut-off top does not. Or they are broad: of the time that
a swing spends above six tenths of its height, a natural one spends less than half above nine tenths. A wave that was
made broad is so in all its swings alike.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.tops.flat_tops import Floats, Integers, Tops

TOLERANCE = 0.02
"""How far below its slot's highest sample a frayed top reaches, as a share of it, where its shape is looked at,"""

WIDE = 0.07
"""and so far where it is told what of it is wrong: the coder's noise is as large."""

_HIGH, _MIDDLE = 0.9, 0.6
_LEAST_BROAD, _LEAST_BROAD_OF_A_TONE, _TONE_RATIO = 0.52, 0.56, 20.0
_FEWEST_BROAD, _LEAST_BROAD_RATIO = 20, 1.5
_LEAST_SPREAD_OF_ANY = 0.04
_SHORTEST = 2.0
"""Of tops of single samples it is not told whether they are flat."""

_ALIKE_SHARE, _LONG_ENOUGH = 0.9, 4.0
_LEAST_BITS = 8.0
_BELIEVED_BITS, _LESS_BITS = 12.0, 2.0
"""A rail with so much evidence is looked for in the other stretches too; there it has a little less."""

_FEWEST_TO_COMPARE, _LEAST_SPREAD, _CLEARLY_BROADER = 24, 0.06, 7.0
_DENT_SECONDS = 0.0001

_STRETCH_SECONDS = 4.0
_LOWEST_LEVEL = 0.2
_FEWEST_TOPS = 30
HALF_BAND = 0.03
_CROWD_RATIO = 4.0
_ABOVE_SHARE = 0.25
_UNTURNED_SHARE = 0.04
_UNTURNED_CUT = 1.4
_CLEARLY_UNTURNED_SHARE = 0.1
_NATURAL_SPREAD = 0.015
"""Half the tops of clean sound near its highest lie further than this from their median level, as a share of it."""

_FEW_LONG = 4.0
_CROWD_OF_SHORT_TOPS = 250


class Frayed(NamedTuple):
    """The tops on a frayed rail, all that is wrong of them, the evidence in bits, and the frames close to their
    highest sample: as many as an exact rail would have to explain."""

    tops: Tops
    bits: float
    frames: int


class Breadths(NamedTuple):
    """For each slot, its highest sample, how many lie above nine and above six tenths of that, and whether it holds
    whole swings: 1 if it neither begins nor ends within one."""

    level: Floats
    high: npt.NDArray[np.uint16]
    middle: npt.NDArray[np.uint16]
    is_whole: npt.NDArray[np.uint16]

    @classmethod
    def joined(cls, parts: Sequence[Breadths]) -> Breadths:
        """Return the slots of several blocks as one."""
        return cls(*(np.concatenate(values) for values in zip(*parts, strict=True)))

    def within(self, start: int, stop: int) -> Breadths:
        """Return some of the slots."""
        return Breadths(
            self.level[start:stop], self.high[start:stop], self.middle[start:stop], self.is_whole[start:stop]
        )


def breadths(wave: Floats, levels: Floats, slot: int) -> Breadths:
    """Return how broad the slots of a wave are; ``levels`` are its highest samples. A last, shorter slot is none."""
    whole = len(wave) // slot
    slots, tops = wave[: whole * slot].reshape(whole, slot), levels[:whole, np.newaxis]
    is_whole = (slots[:, [0, -1]] < np.float32(_MIDDLE) * tops).all(axis=1)
    after = 0, len(levels) - whole
    high, middle = (
        np.pad((slots >= np.float32(share) * tops).sum(axis=1).astype(np.uint16), after) for share in (_HIGH, _MIDDLE)
    )
    return Breadths(levels, high, middle, np.pad(is_whole.astype(np.uint16), after))


def frayed_rails(tops: Tops, wide: Tops, slots: Breadths, slot: int, rate: int) -> list[Frayed]:
    """Return the frayed rails, stretch by stretch.

    Parameters
    ----------
    tops : Tops
        In order of time, found with a tolerance of ``TOLERANCE`` of the slot's level.
    wide : Tops
        The same, found with ``WIDE``.
    slots : Breadths
        Of all slots.
    slot, rate : int
        Frames in a slot, frames a second. Rails are sought in stretches of four seconds.
    """
    stretch = round(_STRETCH_SECONDS * rate)
    bounds = np.arange(0, len(slots.level) * slot + stretch, stretch)
    narrow_at, wide_at = np.searchsorted(tops.start, bounds), np.searchsorted(wide.start, bounds)
    parts = [
        _Stretch(
            tops.where(np.arange(*narrow_at[number : number + 2])),
            wide.where(np.arange(*wide_at[number : number + 2])),
            slots.within(start // slot, (start + stretch) // slot),
        )
        for number, start in enumerate(bounds[:-1].tolist())
    ]
    seen = [_rail(part) for part in parts]
    believed = [rail for rail in seen if rail is not None and rail[1] >= _BELIEVED_BITS]
    rails = []
    for part, own in zip(parts, seen, strict=True):
        others = [(level, bits - _LESS_BITS) for level, bits in believed if _is_reached(part.slots.level, level)]
        best = max([*filter(None, (own,)), *others], key=lambda rail: rail[1], default=None)
        if best is not None:
            rails += _frayed(part, *best, round(_DENT_SECONDS * rate))
    return rails


class _Stretch(NamedTuple):
    """Some seconds of a side: its tops, narrow and wide, and its slots."""

    tops: Tops
    wide: Tops
    slots: Breadths


def _rail(part: _Stretch) -> tuple[float, float] | None:
    """Return the level of a stretch's rail and the evidence in bits, None if there is none."""
    found = _crowd(part.tops.level, part.tops.length, part.tops.cut), _broad(part.slots)
    return max(filter(None, found), key=lambda rail: rail[1], default=None)


def _is_reached(levels: Floats, rail: float) -> bool:
    """Whether slots of a stretch reach a rail that was seen elsewhere, and hardly any passes it."""
    reaching = np.count_nonzero(np.abs(levels / rail - 1) < 2 * HALF_BAND)
    return bool(reaching and np.count_nonzero(levels > rail * (1 + 2 * HALF_BAND)) <= _ABOVE_SHARE * reaching)


def _frayed(part: _Stretch, level: float, bits: float, dent: int) -> list[Frayed]:
    """Return the rail of a stretch with all that lies on it."""
    members = part.wide.where(np.abs(part.wide.level / level - 1) <= 2 * HALF_BAND)
    if not len(members.start) or np.median(members.length) < _SHORTEST:
        return []
    close = part.tops.length[np.abs(part.tops.level / level - 1) <= 2 * HALF_BAND]
    return [Frayed(_without_dents(members, dent), bits, int(close.sum()))]


def _without_dents(tops: Tops, longest: int) -> Tops:
    """Return tops with those that a short dent parts as one."""
    stops = tops.start + tops.length
    firsts = np.flatnonzero(np.concatenate([[True], tops.start[1:] - stops[:-1] > longest]))
    lasts = np.append(firsts[1:], len(stops)) - 1
    level = np.maximum.reduceat(tops.level, firsts)
    return Tops(tops.start[firsts], stops[lasts] - tops.start[firsts], level, tops.cut[firsts])


def _broad(slots: Breadths) -> tuple[float, float] | None:
    """Return the level that broad slots crowd at, with nothing above, and the evidence; None if there is none."""
    level = slots.level
    if len(level) < _FEWEST_BROAD or level.max() < _LOWEST_LEVEL:
        return None
    # Of swings so low that a slot holds just a top, or a flank, nothing is told.
    is_whole = slots.is_whole > 0
    shares = slots.high / np.maximum(slots.middle, 1)
    best = None
    for rail in level.max() * np.geomspace(1.0, 0.75, 30):
        inside = np.abs(level / rail - 1) < 2 * HALF_BAND
        crowd = int(np.count_nonzero(inside))
        above = np.count_nonzero(level > rail * (1 + 2 * HALF_BAND))
        beneath = np.count_nonzero((level < rail * (1 - 3 * HALF_BAND)) & (level > 0.75 * rail))
        ratio = crowd / (beneath + 1)
        if crowd < _FEWEST_BROAD or above > _ABOVE_SHARE * crowd or ratio < _LEAST_BROAD_RATIO:
            continue
        lower = shares[is_whole & (level < rail * (1 - 5 * HALF_BAND)) & (level > 0.4 * rail)]
        bits = 10 + max(
            3 * np.log2(crowd / _FEWEST_BROAD) + _broader_than_any(slots, inside & is_whole, ratio),
            3 * np.log2(ratio / 2) + _broader_than_others(shares[inside & is_whole], lower),
        )
        if best is None or bits > best[1]:
            best = float(rail), float(min(30.0, bits))
    return best if best is not None and best[1] > _LEAST_BITS else None


def _broader_than_any(slots: Breadths, inside: npt.NDArray[np.bool_], ratio: float) -> float:
    """Return the evidence, in bits, in slots being broader than any natural swing, that of a tone included."""
    share = float(slots.high[inside].sum() / max(1, slots.middle[inside].sum()))
    shares = slots.high[inside] / np.maximum(1, slots.middle[inside])
    if not len(shares) or np.ptp(np.percentile(shares, (25, 75))) < _LEAST_SPREAD_OF_ANY:
        return -100.0
    least = _LEAST_BROAD_OF_A_TONE if ratio > _TONE_RATIO else _LEAST_BROAD
    return 60 * (share - _LEAST_BROAD) + 2 * float(np.log2(ratio / 2)) if share >= least else -100.0


def _broader_than_others(inside: npt.NDArray[np.float64], lower: npt.NDArray[np.float64]) -> float:
    """Return the evidence in slots being broader than the less loud ones, by the standard error of the difference."""
    if min(len(inside), len(lower)) < _FEWEST_TO_COMPARE or np.ptp(np.percentile(inside, (25, 75))) < _LEAST_SPREAD:
        return -100.0
    error = np.sqrt(inside.var() / len(inside) + lower.var() / len(lower) + 1e-9)
    return float((inside.mean() - lower.mean()) / error) - _CLEARLY_BROADER


def _crowd(level: Floats, length: Integers, cut: Floats) -> tuple[float, float] | None:
    """Return the highest level that tops crowd at, and the evidence; None if there is no crowd."""
    if len(level) < _FEWEST_TOPS or level.max() < _LOWEST_LEVEL:
        return None
    heights = np.sort(level)
    rails = heights[-1] * np.geomspace(1.0, 0.75, 30)

    def below_share(share: float) -> Integers:
        """Return how many tops lie below a share of each rail tried."""
        return np.searchsorted(heights, rails * share)

    crowds = below_share(1 + HALF_BAND) - below_share(1 - HALF_BAND)
    beneath = below_share(1 - 2 * HALF_BAND) - below_share(1 - 4 * HALF_BAND)
    above = len(heights) - below_share(1 + 2 * HALF_BAND)
    ratios = crowds / (beneath + 1)
    possible = (crowds >= _FEWEST_TOPS) & (above <= _ABOVE_SHARE * crowds) & (ratios >= _CROWD_RATIO)
    if not possible.any():
        return None
    best = int(np.argmax(np.where(possible, crowds, 0)))
    rail, ratio, crowd = float(rails[best]), float(ratios[best]), int(crowds[best])
    members = np.flatnonzero(np.abs(level / rail - 1) <= 2 * HALF_BAND)
    if np.mean(cut[members] > _UNTURNED_CUT) < _UNTURNED_SHARE or _is_regular(length[members], cut[members], crowd):
        return None
    # 160 tops in four seconds, five times as many as just below, are as likely clipped as limited on purpose.
    bits = 10 + 4 * np.log2(crowd / 160) + 2 * np.log2(ratio / 5) + _tightness(level[members], cut[members])
    return rail, float(min(30.0, bits))


def _tightness(level: Floats, cut: Floats) -> float:
    """Return the evidence, in bits, in tops lying closer together than natural ones spread within the band.

    A limiter lines tops up too, but lets them turn; it is not counted as clipping for that.
    """
    if np.mean(cut > _UNTURNED_CUT) < _CLEARLY_UNTURNED_SHARE:
        return 0.0
    spread = float(np.median(np.abs(level / np.median(level) - 1)))
    return float(np.clip(0.05 * len(level) * np.log2(_NATURAL_SPREAD / max(spread, 1e-5)), 0.0, 12.0))


def _is_regular(length: Integers, cut: Floats, crowd: int) -> bool:
    """Whether the tops resemble each other as those of a tone do, or are too short and too few to tell.

    Drum loops that were pressed against a ceiling when they were made have short tops in small crowds.
    """
    low, middle, high = np.percentile(length, (10, 50, 90))
    quarter, three_quarters = np.percentile(np.log2(np.maximum(cut, 0.01)), (25, 75))
    is_short = middle < 3 and (high < _FEW_LONG or crowd < _CROWD_OF_SHORT_TOPS)
    is_as_the_next = middle >= _LONG_ENOUGH and np.mean(np.abs(np.diff(length)) <= 1) >= _ALIKE_SHARE
    return bool(is_short or is_as_the_next or high - low <= 1 or three_quarters - quarter < 0.35)
