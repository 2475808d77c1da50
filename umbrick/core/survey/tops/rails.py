"""Rails: levels that tops lie on, and whether they lie there because they were cut off.

That many single samples share a level proves nothing: the peaks of a tone do, and those that a limiter has turned down
to its ceiling. Tops must be flat, and pile up at the level instead of thinning out towards it.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.tops.flat_tops import Floats, Tops

_SAME_LEVEL = 0.002
"""Rails no further apart than this share of their level are the same."""

_COINCIDENCE_BITS = 1.5
"""Taken from each flat top's evidence: flat tops of quiet or coarsely quantised sound share a level by chance."""

FLAT_BITS, _LEAST_FLAT_BITS, _LEAST_FLAT_MEAN = 2.0, 8.0, 0.1
"""Evidence from which on a top is flat; how much of it those on a rail that are unlike each other must have together,
and in the mean with those that are not."""

_ALIKE = 0.05
_MANY = 10
"""Of so many tops, a single flat one is chance."""

_BELOW_WIDTHS, _LEAST_PILED = 12.0, 0.5
"""Of the tops in so many times the width of a rail below it, and on it, this share lies on it; of a tone's tops less
than a third."""


class Rail(NamedTuple):
    """Tops of one channel and polarity that lie on one rail, whether they are flat, and the evidence for it in bits."""

    tops: Tops
    bits: float
    level: float
    frayed: bool = False
    flat: bool = True


def evidence_bits(tops: Tops) -> Floats:
    """Return the evidence of each top, in bits, that it is cut and not turned; negative for natural tops."""
    beyond_first = np.minimum(tops.length, 12) - 1
    bits = np.minimum(beyond_first * np.log2(np.maximum(tops.cut / np.float32(1.5), 1)), 24) - _COINCIDENCE_BITS
    return bits.astype(np.float32)


def is_same_level(one: float, other: float) -> bool:
    """Whether two levels are those of one rail."""
    return abs(one / other - 1) < _SAME_LEVEL


def are_flat(tops: Tops, least_share: float) -> bool:
    """Whether enough of the tops on a level, and such a share, are flat; what ends alike is one that came again."""
    bits = evidence_bits(tops)
    flat = bits > FLAT_BITS
    shapes = np.stack([tops.length[flat], np.round(np.log(tops.cut[flat]) / _ALIKE)], axis=1)
    _, one_of_each = np.unique(shapes, axis=0, return_index=True)
    is_enough = bits[flat][one_of_each].sum() >= _LEAST_FLAT_BITS
    is_enough &= flat.sum() > 1 or len(bits) <= _MANY
    return bool(is_enough and bits[flat].sum() >= _LEAST_FLAT_MEAN * len(bits) and flat.mean() >= least_share)


def is_piled_up(tops: Tops, on_rail: npt.NDArray[np.bool_], slack: float) -> bool:
    """Whether tops pile up on a rail, instead of thinning out towards it, in the time that it lasts."""
    starts, levels = tops.start[on_rail], tops.level[on_rail]
    lowest, width = float(levels.min()), float(np.ptp(levels)) + slack
    during = (tops.start >= starts.min()) & (tops.start <= starts.max())
    below = during & (tops.level < lowest) & (tops.level >= lowest - (_BELOW_WIDTHS - 1) * width)
    return bool(on_rail.sum() >= _LEAST_PILED * (on_rail | below).sum())


def frames_on(rails: list[Rail]) -> int:
    """Return how many frames rails explain; tops that lie on two of them count once."""
    if not rails:
        return 0
    tops = Tops.joined([rail.tops for rail in rails])
    _, first = np.unique(tops.start, return_index=True)
    return int(tops.length[first].sum())
