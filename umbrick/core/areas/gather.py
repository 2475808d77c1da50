"""Gathering: an area grown from one cell to all that goes on like it, or is found like it elsewhere in view."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import binary_closing, find_objects, label, median_filter, uniform_filter

from umbrick.core.areas.area import Area
from umbrick.core.areas.shapes import Mosaic
from umbrick.core.areas.transform import ShortTime

Wave = npt.NDArray[np.float64]
Marks = npt.NDArray[np.bool_]

TOLERANCE_DB = 27.0
CONTEXT_SECONDS = 5.0
_SIZES_SECONDS = (0.043, 0.021, 0.011)
_USUAL_PERCENT = 70
_MISSED_BY = 2
_STAGES = 9
_TOGETHER_ROWS, _BEFORE_ROWS, _SUDDEN_DB, _DIES_DB, _DIES_SHARE = 2, 10, 14.0, 8.0, 0.6
_LEAST_ROWS, _LEAST_SHARE, _MOST_WIDE_BINS, _FAINTEST_DB = 5, 0.12, 7, 20.0
_BESIDE_BINS, _SILENT_BELOW_DB, _FEWEST_ROWS = 4, 12.0, 12


class _Growth(NamedTuple):
    """Over how many rows and bins powers are meant, how many seconds around tell what is usual, and by how much cells
    stand out of that, over how many bins cells are joined across a gap in time, and by how much louder than where it
    was come to over is a sound of its own."""

    smoothed: tuple[int, int]
    usual_seconds: float
    stands_out_db: float
    bridged_bins: int
    climb_db: float


_TONAL, _BROAD = _Growth((1, 1), 2.0, 9.0, 1, 6.0), _Growth((3, 3), 0.5, 6.0, 3, 12.0)


@dataclass(frozen=True)
class Gathering:
    """How an area is grown: cells no more than ``tolerance_db`` fainter than where it began belong to it; only those
    that hang together, unless ``everywhere``; at all of the frequencies unless it stays in those of ``in_time``."""

    tolerance_db: float = TOLERANCE_DB
    everywhere: bool = False
    in_time: bool = False


def gathered(wave: Wave, at: int, hz: float, rate: int, gathering: Gathering = Gathering()) -> Area | None:
    """Return the area that goes on like a place in time and frequency; None if nothing stands out there.

    Parameters
    ----------
    wave : ndarray, shape (frames,)
        The place, and a few seconds around it, which tell what is usual there.
    at : int
        The frame of the place in the wave; frames of the area are counted from the wave's start.
    hz : float
        The frequency of the place.
    rate : int
        In Hz.
    gathering : Gathering

    Notes
    -----
    A seeded region growing (Adams, Bischof, 1994) over the levels of the spectra, in those windows that show the
    place the most sharply. What is no louder than is usual at its frequency within the seconds around is left out.
    """
    transform, power = _sharpest(wave, at, hz, rate)
    growth = _TONAL if transform.size >= _SIZES_SECONDS[0] * rate / 1.5 else _BROAD
    # Single cells of what is no tone are loud or faint by chance.
    power = np.maximum(uniform_filter(power, growth.smoothed), 0)
    seed = _seed(power, at / transform.hop, hz * transform.size / rate)
    levels_db = 10 * np.log10(power + 1e-30)
    stands_out = levels_db > _usual_db(levels_db, seed, growth, transform, rate) + growth.stands_out_db
    if not stands_out[seed]:
        return None
    mask = _grown(levels_db, stands_out, seed, growth, gathering)
    return _area_of(mask, transform, rate)


def _grown(levels_db: Wave, stands_out: Marks, seed: tuple[int, int], growth: _Growth, gathering: Gathering) -> Marks:
    """Return the cells that belong to a seed: those that are reached from it without climbing up to other sound."""
    allowed = stands_out.copy()
    if gathering.in_time:
        reach = max(2, round(0.06 * seed[1]))
        allowed[:, : max(0, seed[1] - reach)] = False
        allowed[:, seed[1] + reach + 1 :] = False
    top_db = levels_db[seed]
    if gathering.everywhere:
        return np.asarray(allowed & (levels_db >= top_db - gathering.tolerance_db))
    taken = np.zeros(levels_db.shape, np.bool_)
    taken[seed] = True
    for below_db in np.linspace(0, gathering.tolerance_db, _STAGES + 1)[1:].tolist():
        parts = _parts_of(allowed & (levels_db >= top_db - below_db), growth)
        climbs = levels_db > top_db - below_db + growth.climb_db
        taken |= (parts == parts[seed]) & ~climbs
    parts = _parts_of(taken, growth)
    mask = (parts == parts[seed]) & taken
    if growth is _TONAL and not gathering.in_time:
        alike = _parts_of(allowed & (levels_db >= top_db - gathering.tolerance_db), growth)
        mask |= _with_it(alike, int(alike[seed]), levels_db)
    return mask


def _parts_of(alike: Marks, growth: _Growth) -> npt.NDArray[np.int32]:
    """Return the numbers of the parts that hang together; a cell or two that dip for a moment do not part them."""
    inner = slice(_MISSED_BY, -_MISSED_BY)
    joined = binary_closing(np.pad(alike, _MISSED_BY), np.ones((2 * _MISSED_BY + 1, growth.bridged_bins)))[inner, inner]
    parts, _ = label(joined | alike, np.ones((3, 3)))
    return np.asarray(parts)


def _with_it(parts: npt.NDArray[np.int32], own: int, levels_db: Wave) -> Marks:
    """Return the parts that are struck as one is, just with it, and end no later: partials of one bell."""
    mask = np.zeros(parts.shape, np.bool_)
    spans = find_objects(parts)
    first, last = spans[own - 1][0].start, spans[own - 1][0].stop
    struck = parts[spans[own - 1]] == own
    faintest_db = levels_db[spans[own - 1]][struck].max() - _FAINTEST_DB
    shortest = max(_LEAST_ROWS, _LEAST_SHARE * (last - first))
    if not _is_struck(spans[own - 1], struck, levels_db):
        return mask
    for number, span in enumerate(spans, 1):
        rows = span[0]
        is_with_it = abs(rows.start - first) <= _TOGETHER_ROWS and rows.stop <= last + _TOGETHER_ROWS
        if number == own or not is_with_it:
            continue
        part = parts[span] == number
        is_line = rows.stop - rows.start >= shortest and part.sum(axis=1).mean() <= _MOST_WIDE_BINS
        is_line &= levels_db[span][part].max() >= faintest_db
        if is_line and _is_struck(span, part, levels_db):
            mask[span] |= part
    return mask


def _is_struck(span: tuple[slice, slice], part: Marks, levels_db: Wave) -> bool:
    """Whether a part, the cells of a span that it marks, begins suddenly, is loudest then, and dies away."""
    level_db = np.where(part, levels_db[span], -np.inf).max(axis=1)
    level_db = level_db[np.isfinite(level_db)]
    third = max(1, len(level_db) // 3)
    # Of a faint part not all of the way down is seen.
    seen_db = level_db.max() - level_db.min()
    dies_db = level_db.max() - np.median(level_db[-third:])
    dies = level_db[:third].max() >= level_db.max() and dies_db >= min(_DIES_DB, _DIES_SHARE * seen_db)
    return bool(dies) and _onset_db(span, part, levels_db) >= _SUDDEN_DB


def _onset_db(span: tuple[slice, slice], part: Marks, levels_db: Wave) -> float:
    """Return by how much a part is louder than what is at its frequencies just before it."""
    rows, bins = span
    before = levels_db[max(0, rows.start - _BEFORE_ROWS) : rows.start, bins]
    if not len(before):
        return 0.0
    first = slice(rows.start, min(rows.start + _LEAST_ROWS, rows.stop))
    after = levels_db[first, bins][part[: first.stop - first.start]]
    return float(after.max(initial=-np.inf) - np.median(before[: max(1, len(before) // 2)].max(axis=1)))


def _usual_db(levels_db: Wave, seed: tuple[int, int], growth: _Growth, transform: ShortTime, rate: int) -> Wave:
    """Return the level that is usual at each frequency near a place, when what is there does not sound."""
    reach = max(1, round(growth.usual_seconds * rate / transform.hop))
    row, column = seed
    nearby = levels_db[max(0, row - reach) : row + reach]
    own = nearby[:, max(0, column - _BESIDE_BINS) : column + _BESIDE_BINS + 1].max(axis=1)
    silent = nearby[own < levels_db[seed] - _SILENT_BELOW_DB]
    if len(silent) >= _FEWEST_ROWS:
        return np.asarray(np.percentile(silent, _USUAL_PERCENT, axis=0))
    # It sounds all the time: what is between lines of the spectrum tells instead.
    return np.asarray(median_filter(np.median(nearby, axis=0), 4 * _BESIDE_BINS + 1, mode="nearest"))


def _sharpest(wave: Wave, at: int, hz: float, rate: int) -> tuple[ShortTime, Wave]:
    """Return the transform whose windows show a place the most sharply, and the powers of all of a wave's cells."""
    best: tuple[float, ShortTime] | None = None
    for seconds in _SIZES_SECONDS:
        transform = ShortTime.lasting(seconds, rate)
        reach = 2 * transform.size
        low = max(0, at - reach)
        power = np.square(np.abs(transform.spectra(wave[low : at + reach])))
        row, column = _seed(power, (at - low) / transform.hop, hz * transform.size / rate)
        density = float(power[row, column]) / np.square(transform.window).sum()
        if best is None or density > best[0]:
            best = density, transform
    assert best is not None
    return best[1], np.square(np.abs(best[1].spectra(wave)))


def _seed(power: Wave, row: float, column: float) -> tuple[int, int]:
    """Return the loudest cell next to a place."""
    at, over = round(row), round(column)
    rows = slice(max(0, at - 1), min(len(power), at + 2))
    columns = slice(max(0, over - 2), min(power.shape[1], over + 3))
    part = power[rows, columns]
    index = int(part.argmax())
    return rows.start + index // part.shape[1], columns.start + index % part.shape[1]


def _area_of(mask: Marks, transform: ShortTime, rate: int) -> Area:
    rows = np.flatnonzero(mask.any(axis=1))
    first, last = int(rows[0]), int(rows[-1]) + 1
    start = (first - 0.5) * transform.hop
    return Area.of(Mosaic.of(mask[first:last], start, transform.hop, rate / transform.size))
