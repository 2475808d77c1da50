"""What would be in an area without the intruder: levels foretold from before, after, above and below it, and from
moments of the recording that sound alike outside of it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.ndimage import binary_dilation, uniform_filter1d

Wave = npt.NDArray[np.float64]
Marks = npt.NDArray[np.bool_]

SIDES = ("auto", "before", "after", "both", "beside")
_UNCOVERED = 0.02
"""A cell that is covered no more than this is taken for free of the intruder."""

_GUARD_ROWS, _GUARD_BINS = 2, 3
_MEANT_OVER_SECONDS, _MEANT_OVER_HZ = 0.03, 150.0
_TIME_UNIT_SECONDS, _PITCH_UNIT_HZ = 0.06, 40.0
_BESIDE_HZ, _LEVEL_ROWS, _MOST_DB = 300.0, 5, 15.0
_LONG_SECONDS, _NARROW_HZ = 0.22, 1000.0
"""In areas so long and narrow, what was before or comes after is held to be as loud as what is beside them now."""

_ALIKE, _LEAST_SEEN_SHARE = 12, 0.2
_ALIKE_COUNTS = 0.03
"""Moments alike count as much as a side that is nearly six units away: in the midst of long sounds."""

_FLOOR = 1e-20
_HARDLY = 1e-5


def foretold(power: Wave, covered: Wave, seconds: float, hz: float, sides: str = "auto") -> Wave:
    """Return the powers that the surroundings of an area foretell for it, shape ``(rows, bins)``.

    Parameters
    ----------
    power, covered : ndarray, shape (rows, bins)
        Powers of the cells, and how far the area covers each.
    seconds, hz : float
        From one row to the next, and from one bin to the next.
    sides : str
        One of :data:`SIDES`: ``beside`` is above and below, ``both`` before and after, ``auto`` all of them and
        moments that sound alike.

    Notes
    -----
    A mean over the nearest free cells on each side; sides count the more the nearer they are (Shepard, 1968). Moments
    alike are rows whose free bins have nearly the same shape and level, of which the covered ones are taken over: an
    inpainting by exemplars (Criminisi, Pérez, Toyama, 2004), row by row, that counts where all sides are far.
    """
    # What an intruder leaves beside its area would pass for what is around.
    free = ~binary_dilation(covered > _UNCOVERED, np.ones((2 * _GUARD_ROWS + 1, 2 * _GUARD_BINS + 1)))
    estimates: list[tuple[Wave, Wave]] = []
    louder = _louder(power, free, seconds, hz) if sides == "auto" else np.ones((len(power), 1))
    steady = power / louder
    rows = max(1, round(_MEANT_OVER_SECONDS / seconds))
    bins = max(1, round(_MEANT_OVER_HZ / hz))
    if sides in ("auto", "before", "both"):
        mean, near = _from_before(steady, free, rows, seconds / _TIME_UNIT_SECONDS)
        estimates.append((mean * louder, near))
    if sides in ("auto", "after", "both"):
        mean, near = _from_before(steady[::-1], free[::-1], rows, seconds / _TIME_UNIT_SECONDS)
        estimates.append((mean[::-1] * louder, near[::-1]))
    if sides in ("auto", "beside"):
        mean, near = _from_before(power.T, free.T, bins, hz / _PITCH_UNIT_HZ)
        estimates.append((mean.T, near.T))
        mean, near = _from_before(power.T[::-1], free.T[::-1], bins, hz / _PITCH_UNIT_HZ)
        estimates.append((mean[::-1].T, near[::-1].T))
    if sides == "auto":
        alike = _from_alike(power, free)
        if alike is not None:
            estimates.append((np.nan_to_num(alike), np.where(np.isfinite(alike), _ALIKE_COUNTS, 0.0)))
    weights = np.array([near for _, near in estimates])
    total = weights.sum(axis=0)
    logs = np.log(np.array([mean for mean, _ in estimates]) + _FLOOR)
    mixed = np.exp((weights * logs).sum(axis=0) / np.maximum(total, 1e-30))
    mixed[total <= 0] = 0.0
    return np.where(free, power, mixed)


def _louder(power: Wave, free: Marks, seconds: float, hz: float) -> Wave:
    """Return how loud each row is in the bins beside the area that are free in all of them, shape ``(rows, 1)``; ones
    if there are too few."""
    touched = ~free.all(axis=1)
    reach = max(1, round(_BESIDE_HZ / hz))
    covered = ~free[touched].all(axis=0)
    beside = binary_dilation(covered, np.ones(2 * reach + 1)) & ~covered
    # Beside a burst there is more of it.
    is_long = touched.sum() * seconds > _LONG_SECONDS
    if not is_long or (~free[touched]).sum(axis=1).mean() * hz > _NARROW_HZ or beside.sum() < reach:
        return np.ones((len(power), 1))
    level = uniform_filter1d(power[:, beside].mean(axis=1), _LEVEL_ROWS)
    usual = float(np.mean(level)) + _FLOOR
    made: Wave = np.clip(level / usual, 10 ** (-_MOST_DB / 10), 10 ** (_MOST_DB / 10))[:, np.newaxis]
    return made


def _from_before(power: Wave, free: Marks, count: int, unit: float) -> tuple[Wave, Wave]:
    """Return the mean of the last so many free cells before each, along the first axis, and how much that counts."""
    held = np.where(free, power, 0.0)
    sums = np.concatenate([np.zeros((1, power.shape[1])), np.cumsum(held, axis=0)])
    seen = np.concatenate([np.zeros((1, power.shape[1])), np.cumsum(free, axis=0)])
    at = np.arange(len(power))[:, np.newaxis]
    last = np.maximum.accumulate(np.where(free, at, -1), axis=0)
    begin = np.maximum(last + 1 - count, 0)
    columns = np.arange(power.shape[1])[np.newaxis]
    number = seen[last + 1, columns] - seen[begin, columns]
    mean = (sums[last + 1, columns] - sums[begin, columns]) / np.maximum(number, 1)
    away = np.maximum((at - last) * unit, 1e-3)
    return mean, np.where(last >= 0, 1 / np.square(away), 0.0)


def _from_alike(power: Wave, free: Marks) -> Wave | None:
    """Return what rows that sound alike have in the covered cells; None where too little is free to tell."""
    touched = ~free.all(axis=1)
    seen = free[touched].all(axis=0)
    if not touched.any() or touched.all() or seen.mean() < _LEAST_SEEN_SHARE:
        return None
    wanted = ~seen
    own = power[:, seen]
    # What is fainter hardly sounds, and an intruder's faintest traces would decide.
    shape = np.log(own + _HARDLY * np.percentile(own.max(axis=1), 90))
    donors, rows = np.flatnonzero(~touched), np.flatnonzero(touched)
    apart = (
        np.square(shape[rows]).sum(axis=1)[:, np.newaxis]
        + np.square(shape[donors]).sum(axis=1)
        - 2 * shape[rows] @ shape[donors].T
    ) / seen.sum()
    count = min(_ALIKE, len(donors))
    nearest = np.argpartition(apart, count - 1, axis=1)[:, :count]
    made = np.full(power.shape, np.nan)
    for row, chosen in zip(rows.tolist(), nearest, strict=True):
        made[row, wanted] = np.square(np.sqrt(power[donors[chosen]][:, wanted]).mean(axis=0))
    return made
