"""Ridges: lines in the spectrum that stand out from what is beside them and go on for a while."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import label, maximum_filter1d, uniform_filter1d

Floats = npt.NDArray[np.float32]
Integers = npt.NDArray[np.int64]

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

    Those that surely end before row ``since`` are left out. ``shortest`` is at least ``END_ROWS``.
    """
    lines = _lines(over_db > 0, power, shortest, since)
    first, stop = _strong(lines, _parts(lines))
    chosen = (stop - first >= shortest) & (lines.row[stop - 1] + 1 >= since)
    return _shaped(lines, first[chosen], stop[chosen], over_db, power) if chosen.any() else []


class _Lines(NamedTuple):
    """Patches of neighbouring tops, one after another: an item for each row of each, whether it has a top or not."""

    patch: Integers
    row: Integers
    strength: Floats
    """Power of the row's strongest top; 0 without one."""
    column: Floats
    """Bin of the row's first top, or what lies evenly between those before and after."""
    tops: tuple[Integers, Integers, Integers]
    """Of every top the item it belongs to, its row and its bin; in order of the items."""


def _lines(is_top: npt.NDArray[np.bool_], power: Floats, shortest: int, since: int) -> _Lines:
    """Return the patches that may be long enough and last long enough."""
    thick = is_top.copy()
    thick[:, 1:] |= is_top[:, :-1]
    thick[:, :-1] |= is_top[:, 1:]
    thick[1:-1] |= thick[:-2] & thick[2:]
    rows, columns = np.nonzero(is_top)
    patches = label(thick)[0][rows, columns]
    in_order = np.argsort(patches, kind="stable")
    patches, rows, columns = patches[in_order], rows[in_order], columns[in_order]
    begins = np.flatnonzero(np.diff(patches, prepend=0))
    counts = np.diff(begins, append=len(patches))
    first, last = rows[begins], rows[begins + counts - 1]
    chosen = (last - first + 1 >= shortest) & (last + 1 >= since)
    kept = np.repeat(chosen, counts)
    rows, columns, counts = rows[kept], columns[kept], counts[chosen]
    first, sizes = first[chosen], (last - first + 1)[chosen]
    offsets = np.cumsum(sizes) - sizes
    patch = np.repeat(np.arange(len(sizes)), sizes)
    items = np.repeat(offsets - first, counts) + rows
    row = np.arange(len(patch)) - np.repeat(offsets - first, sizes)
    strength = np.zeros(len(patch), np.float32)
    np.maximum.at(strength, items, power[rows, columns])
    leads = np.flatnonzero(np.diff(items, prepend=-1))
    column = np.interp(np.arange(len(patch)), items[leads], columns[leads]) if len(items) else np.zeros(0)
    return _Lines(patch, row, strength, column.astype(np.float32), (items, rows, columns))


def _parts(lines: _Lines) -> Integers:
    """Return where parts of lines begin: a line that suddenly grows far stronger or weaker has become another."""
    patch, count = lines.patch, len(lines.patch)
    begins = np.diff(patch, prepend=-1) > 0
    if count >= 2 * END_ROWS:
        levels_db = _DB_PER_OCTAVE * np.log2(np.maximum(lines.strength, np.float32(1e-12)))
        near = np.sort(np.stack([levels_db[row : count - END_ROWS + 1 + row] for row in range(END_ROWS)]), axis=0)
        usual = near[1] + near[2]
        steps = np.abs(usual[END_ROWS:] - usual[:-END_ROWS])
        steps[patch[2 * END_ROWS - 1 :] != patch[: count - 2 * END_ROWS + 1]] = 0
        largest = maximum_filter1d(steps, 2 * END_ROWS + 1)
        begins[END_ROWS : END_ROWS + len(steps)] |= (steps >= 2 * _STEP_DB) & (steps == largest)
    return np.flatnonzero(begins)


def _strong(lines: _Lines, begins: Integers) -> tuple[Integers, Integers]:
    """Return where parts begin and end to be strong: what leads up to a line is some other sound's."""
    strength, sizes = lines.strength, np.diff(begins, append=len(lines.patch))
    part = np.repeat(np.arange(len(begins)), sizes)
    in_order = strength[np.lexsort((strength, part))]
    medians = (in_order[begins + (sizes - 1) // 2] + in_order[begins + sizes // 2]) / 2
    strong = np.flatnonzero(strength > _WEAK_SHARE * medians[part])
    of = part[strong]
    first = np.flatnonzero(np.diff(of, prepend=-1))
    return strong[first], strong[np.append(first[1:], len(of))[: len(first)] - 1] + 1


def _shaped(lines: _Lines, first: Integers, stop: Integers, over_db: Floats, power: Floats) -> list[Ridge]:
    """Return the ridges of lines' items from ``first`` to ``stop``, which do not overlap."""
    items, rows, columns = lines.tops
    begins, ends = np.searchsorted(items, first), np.searchsorted(items, stop)
    spans = np.stack([begins, ends], axis=1).ravel()
    sizes = ends - begins

    def over_tops(reduce: np.ufunc, values: npt.NDArray[Any]) -> npt.NDArray[Any]:
        return np.asarray(reduce.reduceat(np.append(values, values[-1:]), spans)[::2])

    at = np.arange(END_ROWS)
    heads, tails = first[:, np.newaxis] + at, stop[:, np.newaxis] - END_ROWS + at
    third = np.maximum(1, (stop - first) // 3)
    sums = np.concatenate([[0.0], np.cumsum(lines.strength, dtype=np.float64)])
    decay = (sums[first + third] - sums[first]) / (sums[stop] - sums[stop - third] + third * 1e-12)
    has_top = lines.strength > 0
    strengths_db = 10 * np.log10(lines.strength + 1e-12, dtype=np.float64)
    ends_db = [
        _over_db(lines, inner, lines.row[edge][:, np.newaxis] + beyond, power)
        for inner, edge, beyond in ((heads, first, at[:-1] - END_ROWS), (tails, stop - 1, at[:-1] + 2))
    ]
    columns_of = (
        lines.row[first],
        lines.row[stop - 1] + 1,
        over_tops(np.minimum, columns),
        over_tops(np.maximum, columns),
        over_tops(np.add, over_db[rows, columns].astype(np.float64)) / sizes,
        over_tops(np.add, power[rows, columns].astype(np.float64)) / sizes,
        10 * np.log10(decay + 1e-12),
        *ends_db,
        _deviations(strengths_db, first, stop, has_top),
        _deviations(lines.column.astype(np.float64), first, stop, np.ones(len(has_top), np.bool_)),
    )
    return [Ridge(*values) for values in zip(*(column.tolist() for column in columns_of), strict=True)]


def _over_db(lines: _Lines, inner: Integers, beyond: Integers, power: Floats) -> npt.NDArray[np.float64]:
    """Return how much stronger ends of lines are than the rows beyond them at their bin and that on either side."""
    strength = np.sort(lines.strength[inner], axis=1)
    middle = (strength[:, (END_ROWS - 1) // 2] + strength[:, END_ROWS // 2]) / 2
    column = np.round(lines.column[inner].mean(axis=1)).astype(np.int64)
    beside = np.clip(column[:, np.newaxis] + np.arange(-1, 2), 0, power.shape[1] - 1)
    exists = (beyond >= 0) & (beyond < len(power))
    strongest = power[np.clip(beyond, 0, len(power) - 1)[:, :, np.newaxis], beside[:, np.newaxis]].max(axis=2)
    there = (strongest * exists).sum(axis=1) / np.maximum(exists.sum(axis=1), 1)
    over_db = 10 * np.log10(middle / (there + 1e-12) + 1e-12)
    return np.asarray(np.where(exists.any(axis=1), over_db, _FROM_NOTHING_DB), np.float64)


def _deviations(
    values: npt.NDArray[np.float64], first: Integers, stop: Integers, counts: npt.NDArray[np.bool_]
) -> npt.NDArray[np.float64]:
    """Return the standard deviations, of the values that count, from the straight line that is nearest to them."""
    used = np.flatnonzero(counts)
    begins, ends = np.searchsorted(used, first), np.searchsorted(used, stop)
    sizes = ends - begins
    of = np.repeat(np.arange(len(first)), sizes)
    places = np.arange(len(of)) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    time = places - (sizes[of] - 1) / 2
    own = values[used[np.repeat(begins, sizes) + places]]

    def summed(terms: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        return np.asarray(np.bincount(of, terms, len(first)), np.float64)

    own = own - (summed(own) / sizes)[of]
    of_slope = np.square(summed(time * own)) / np.maximum(sizes * (sizes * sizes - 1) / 12, 1.0)
    return np.asarray(np.sqrt(np.maximum(summed(own * own) - of_slope, 0.0) / sizes))
