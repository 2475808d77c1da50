"""Flat tops: places where a wave stops at a level instead of turning round.

For one polarity of one channel, every short stretch of sound (*slot*) has a highest sample. A *top* is a run of
samples within a tolerance of it that is lower on both sides. Where nothing is clipped the wave turns round there
like a parabola; the longer the run, the less the samples beside it can have fallen. Clipping cuts the parabola off:
the samples beside the run have fallen much further than a parabola through the run allows.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float32]
Integers = npt.NDArray[np.int64]

FLOOR = 0.003
"""Slots whose highest sample is below this amplitude (−50 dBFS) are not looked at."""

_SLOT_SECONDS = 0.0107
_LEAST_ABOVE = 0.04


def slot_frames(rate: int) -> int:
    """Return the frames in a slot: the power of two next below 10.7 ms, at least 16."""
    return max(16, 1 << int(np.log2(rate * _SLOT_SECONDS)))


def grid_step(samples: npt.NDArray[np.float32]) -> float:
    """Return the distance between neighbouring sample values if all lie on one grid, else 0.

    Sound that was once 16 bit stays on its coarser grid when its level is changed and it is kept at 24 bit or in
    float; its tops are flatter than the file's own depth explains.
    """
    values = np.sort(samples[:: max(1, len(samples) // 32768), 0]).astype(np.float64)
    distances = np.diff(values)
    distances = np.sort(distances[distances > 1e-8])
    if len(distances) < 64:
        return 0.0
    step = float(distances[len(distances) // 100])
    ratio = distances[distances < 40 * step] / step
    on_grid = np.abs(ratio - np.round(ratio)) < 0.12
    return step if len(ratio) > 32 and on_grid.mean() > 0.97 else 0.0


class Tops(NamedTuple):
    """Tops as parallel arrays: first frame, frames, highest sample, and how much sharper than a parabola they end.

    ``cut`` is the ratio of the drop beside the top to the greatest drop that a parabola as flat as the top allows:
    about 1 for a natural top, many times that for a clipped one.
    """

    start: Integers
    length: Integers
    level: Floats
    cut: Floats

    @classmethod
    def none(cls) -> Tops:
        """Return no tops."""
        return cls(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.float32), np.zeros(0, np.float32))

    def where(self, chosen: npt.NDArray[np.bool_] | Integers) -> Tops:
        """Return the chosen tops."""
        return Tops(self.start[chosen], self.length[chosen], self.level[chosen], self.cut[chosen])

    @classmethod
    def joined(cls, parts: list[Tops]) -> Tops:
        """Return the tops of several blocks as one."""
        return cls(*(np.concatenate(arrays) for arrays in zip(*parts, strict=True))) if parts else cls.none()

    def shared_with(self, other: Tops) -> npt.NDArray[np.bool_]:
        """Return which of these, all of different starts, the other ones have just alike."""
        if not len(other.start):
            return np.zeros(len(self.start), np.bool_)
        order = np.argsort(other.start, kind="stable")
        at = order[np.minimum(np.searchsorted(other.start, self.start, sorter=order), len(order) - 1)]
        alike = (self.start == other.start[at]) & (self.length == other.length[at])
        return np.asarray(alike & (self.level == other.level[at]) & (self.cut == other.cut[at]))


class TopsKept:
    """Tops of many blocks, in as little room as they take: there may be hours of them."""

    def __init__(self) -> None:
        self._parts: list[tuple[int, npt.NDArray[np.int32], npt.NDArray[np.int32], Floats, Floats]] = []

    def add(self, tops: Tops) -> None:
        """Keep the tops of a block."""
        if len(tops.start):
            first = int(tops.start.min())
            start, length = (tops.start - first).astype(np.int32), tops.length.astype(np.int32)
            self._parts.append((first, start, length, tops.level, tops.cut))

    def tops(self) -> Tops:
        """Return all of them."""
        parts = [
            Tops(first + start.astype(np.int64), length.astype(np.int64), level, cut)
            for first, start, length, level, cut in self._parts
        ]
        return Tops.joined(parts)


def slot_levels(wave: Floats, slot: int) -> Floats:
    """Return the highest sample of each slot of a wave; the last slot may be shorter."""
    whole = len(wave) // slot * slot
    levels = wave[:whole].reshape(-1, slot).max(axis=1)
    return levels if whole == len(wave) else np.append(levels, wave[whole:].max())


def find_tops(wave: Floats, levels: Floats, slot: int, tolerance: npt.ArrayLike) -> Tops:
    """Return the tops of a wave.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        One channel, negated for the lower side.
    levels : ndarray
        Its :func:`slot_levels`.
    slot : int
        Frames in a slot.
    tolerance : float or ndarray like ``levels``
        How far below its slot's highest sample a top reaches, in amplitude; greater than 0.

    Notes
    -----
    A parabola that stays within ``t`` over ``k`` samples has fallen, ``j`` samples beyond the run's end, by at most
    ``4 t (1/2 + j/k)²``. The samples one and two beyond either end are compared with that; of a run of two, a
    parabola's own neighbours fall in the ratio of one to three.
    """
    tolerance = np.broadcast_to(np.asarray(tolerance, np.float32), levels.shape)
    threshold = np.where(levels >= FLOOR, levels - tolerance, np.float32(np.inf))
    whole = len(wave) // slot
    near = np.empty(len(wave), np.bool_)
    np.greater_equal(
        wave[: whole * slot].reshape(-1, slot),
        threshold[:whole, np.newaxis],
        out=near[: whole * slot].reshape(-1, slot),
    )
    if whole < len(levels):
        near[whole * slot :] = wave[whole * slot :] >= threshold[whole]
    index = np.flatnonzero(near)
    if not len(index):
        return Tops.none()
    firsts = np.flatnonzero(np.diff(index, prepend=-2) > 1)
    start = index[firsts]
    length = np.diff(firsts, append=len(index))
    stop = start + length
    level = levels[start // slot]
    last = len(wave) - 1
    # At the ends of the recording a missing neighbour is taken to be like the one on the other side.
    left, right = (
        np.where(start > 0, start - 1, np.minimum(stop, last)),
        np.where(stop <= last, stop, np.maximum(start - 1, 0)),
    )
    far_left, far_right = np.where(start > 1, start - 2, right), np.where(stop < last, stop + 1, left)
    near_drop = level - wave[left], level - wave[right]
    far_drop = level - wave[far_left], level - wave[far_right]
    # A run across a border of slots is one top only if both slots have the same highest sample.
    spread = np.abs(level - levels[(stop - 1) // slot])
    is_top = (near_drop[0] > 0) & (near_drop[1] > 0) & (spread <= tolerance[start // slot])
    fall = near_drop[0] + near_drop[1] + np.maximum(far_drop[0], 0) + np.maximum(far_drop[1], 0)
    parabola = 8 * tolerance[start // slot] * ((0.5 + 1 / length) ** 2 + (0.5 + 2 / length) ** 2)
    cut = fall / parabola
    # Two equal samples may lie beside any crest: only what the parabola through their neighbours has above them tells.
    pairs = np.flatnonzero(is_top & (length == 2))
    near, far = (drop[0][pairs] + drop[1][pairs] for drop in (near_drop, far_drop))
    above = (far - 3 * near) / (2 * near)
    cut[pairs] *= np.clip(above, _LEAST_ABOVE, 1.0)
    return Tops(start, length, level, cut.astype(np.float32)).where(is_top)
