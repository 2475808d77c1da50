"""Ridges: lines in the spectrum that stand out from what is beside them and go on for a while."""

from __future__ import annotations

from itertools import pairwise
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import find_objects, label, maximum_filter1d, uniform_filter1d

Floats = npt.NDArray[np.float32]

BESIDE_BINS = 12
_CORE_BINS = 2
_LEAST_DB = 11.0
_WEAK_SHARE = 0.1
_DB_PER_OCTAVE = np.float32(10 * np.log10(2))
END_ROWS = 4
"""Rows beyond the end of a line that tell whether, and how, it ends there."""

_STEP_DB = 10.0
_FROM_NOTHING_DB = 40.0
"""At the ends of what is looked at."""


class Ridge(NamedTuple):
    """A line in the spectra."""

    first: int
    last: int
    """Rows, half open."""
    lowest: int
    highest: int
    """Bins."""
    over_db: float
    """How far it stands over what is beside it."""
    power: float
    decay_db: float
    """By how much its last third is weaker than its first."""
    onset_db: float
    release_db: float
    """How much stronger its ends are than what is at the same bins before and after it."""
    ripple_db: float
    """Deviation of its level from an even decay."""
    bend: float
    """Deviation, in bins, from an even glide."""


def tops(power: Floats) -> Floats:
    """Return for each bin how far it stands out, in dB, where it is a top of its row; 0 elsewhere.

    Parameters
    ----------
    power : ndarray, shape (rows, bins)
        Spectra in order.
    """
    levels_db = _DB_PER_OCTAVE * np.log2(np.maximum(power, np.float32(1e-12)))
    wide = uniform_filter1d(levels_db, 2 * BESIDE_BINS + 1, axis=1) * (2 * BESIDE_BINS + 1)
    core = uniform_filter1d(levels_db, 2 * _CORE_BINS + 1, axis=1) * (2 * _CORE_BINS + 1)
    over_db = levels_db - (wide - core) / (2 * (BESIDE_BINS - _CORE_BINS))
    is_top = np.zeros(power.shape, np.bool_)
    is_top[:, 1:-1] = (power[:, 1:-1] >= power[:, :-2]) & (power[:, 1:-1] > power[:, 2:])
    return np.where(is_top & (over_db >= _LEAST_DB), over_db, 0).astype(np.float32)


def ridges(over_db: Floats, power: Floats, shortest: int, since: int = 0) -> list[Ridge]:
    """Return the ridges of tops that go on for at least ``shortest`` rows, gliding by a bin a row at most.

    Those that surely end before row ``since`` are left out.
    """
    is_top = over_db > 0
    thick = is_top.copy()
    thick[:, 1:] |= is_top[:, :-1]
    thick[:, :-1] |= is_top[:, 1:]
    thick[1:-1] |= thick[:-2] & thick[2:]
    labels, count = label(thick)
    # Most patches are small: those that cannot be long enough are left out before each is looked at.
    large = np.bincount(labels.ravel(), minlength=count + 1) >= 2 * shortest
    large[0] = False
    labels = np.where(large, np.cumsum(large), 0)[labels]
    found = []
    for number, box in enumerate(find_objects(labels), 1):
        rows, bins = box
        if rows.stop - rows.start < shortest or rows.stop < since:
            continue
        own = (labels[box] == number) & is_top[box]
        strength = np.where(own, power[box], 0).max(axis=1)
        for begin, end in _parts(strength):
            if end - begin < shortest or rows.start + end < since:
                continue
            # A line begins where it is strong: what leads up to it is some other sound's.
            strong = begin + np.flatnonzero(strength[begin:end] > _WEAK_SHARE * _median(strength[begin:end]))
            own_rows = slice(int(strong[0]), int(strong[-1]) + 1)
            if own_rows.stop - own_rows.start >= shortest:
                there = slice(rows.start + own_rows.start, rows.start + own_rows.stop)
                found.append(_ridge(over_db, power, (there, bins), own[own_rows], strength[own_rows]))
    return found


def _parts(strength: Floats) -> list[tuple[int, int]]:
    """Return the rows of a line cut where it suddenly grows far stronger or weaker: another has taken its place."""
    if len(strength) < 2 * END_ROWS:
        return [(0, len(strength))]
    levels_db = _DB_PER_OCTAVE * np.log2(np.maximum(strength, np.float32(1e-12)))
    near = np.sort(np.stack([levels_db[row : len(levels_db) - END_ROWS + 1 + row] for row in range(END_ROWS)]), axis=0)
    usual = near[1] + near[2]
    steps = np.abs(usual[END_ROWS:] - usual[:-END_ROWS])
    if steps.max() < 2 * _STEP_DB:
        return [(0, len(strength))]
    at = np.flatnonzero((steps >= 2 * _STEP_DB) & (steps == maximum_filter1d(steps, 2 * END_ROWS + 1))) + END_ROWS
    cuts = [0, *at.tolist(), len(strength)]
    return [(begin, end) for begin, end in pairwise(cuts) if end > begin]


def _ridge(
    over_db: Floats, power: Floats, box: tuple[slice, slice], own: npt.NDArray[np.bool_], strength: Floats
) -> Ridge:
    rows, bins = box
    at, columns = np.nonzero(own)
    third = max(1, len(strength) // 3)
    is_first = np.diff(at, prepend=-1) > 0
    on_line = at[is_first]
    path = np.interp(np.arange(len(own)), on_line, columns[is_first]) + bins.start
    first, last = strength[:END_ROWS], strength[-END_ROWS:]
    return Ridge(
        rows.start,
        rows.stop,
        bins.start + int(columns.min()),
        bins.start + int(columns.max()),
        float(over_db[box][at, columns].mean()),
        float(power[box][at, columns].mean()),
        _db(strength[:third].mean() / (strength[-third:].mean() + 1e-12)),
        _over_db(_median(first), power[max(0, rows.start - END_ROWS) : max(0, rows.start - 1)], path[:END_ROWS]),
        _over_db(_median(last), power[rows.stop + 1 : rows.stop + END_ROWS], path[-END_ROWS:]),
        _deviation(10 * np.log10(strength[on_line] + 1e-12)),
        _deviation(path),
    )


def _over_db(strength: float, beyond: Floats, path: npt.NDArray[np.float64]) -> float:
    """Return how much stronger an end of a line is than the rows beyond it at its bin and that on either side."""
    if not len(beyond):
        return _FROM_NOTHING_DB
    column = round(float(path.mean()))
    return _db(strength / (float(beyond[:, max(0, column - 1) : column + 2].max(axis=1).mean()) + 1e-12))


def _db(ratio: float) -> float:
    return float(10 * np.log10(ratio + 1e-12))


def _deviation(values: npt.NDArray[np.float64]) -> float:
    """Return the standard deviation of values from the straight line that is nearest to them."""
    count = len(values)
    time = np.arange(count) - (count - 1) / 2
    centred = values - float(values.sum()) / count
    of_slope = float(time @ centred) ** 2 / max(count * (count * count - 1) / 12, 1.0)
    return float(np.sqrt(max(float(centred @ centred) - of_slope, 0.0) / count))


def _median(values: Floats) -> float:
    """Return the median of a few values; NumPy's own takes ten times as long for so few."""
    in_order = np.sort(values)
    return float((in_order[(len(values) - 1) // 2] + in_order[len(values) // 2]) / 2)
