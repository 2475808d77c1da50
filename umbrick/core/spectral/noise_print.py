"""Noise prints: how loud the noise of a recording is at every frequency."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt
import scipy.ndimage

from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source
from umbrick.core.spectral.grid import Grid, powers_of, size_for

Powers = npt.NDArray[np.float64]

FINEST_SECONDS = 0.186
_LEAST_SIZE = 256
_FINE_TO_HZ, _PER_OCTAVE = 1000.0, 48
"""Every line is kept up to here, a 48th of an octave above."""

FAINTEST_DB = -200.0
_BLOCK_FRAMES = 1 << 17

_QUIET_SHARE = 0.1
_QUIET_WINDOWS = 3
_FEWEST_QUIET = 8

_MOST_QUIET, _MOST_HELD = 200, 2000
_QUANTILES = (0.05, 0.1, 0.2, 0.5)
_LINES_ALIKE = 1.9
"""How many neighbouring lines say about the same, for the width of a window's own line."""

_TENTH_OF_NORMAL = 1.2816
_SHARES_OF_UNREST = (0.4, 0.6)
_RESTLESS_DB, _LESS_FOR_UNREST = 0.7, 5.0
_LEAST_BESIDE, _MOST_BESIDE = 3, 15
_STEADY_DB, _STEADY_LINES = 0.2, 7
_ABOUT_OCTAVES, _FEWEST_ABOUT, _MOST_OVER_DB = 1.0, 8, 3.0
"""What stands out over the lines about it by more is a tone or a roll of drums that never rests."""

_MOSTLY_STEADY, _HARDLY_STEADY, _LESS_IF_HARDLY = 0.65, 0.5, 40.0
"""Noise is steady in most lines of quiet windows, whatever sound crosses some of them; where hardly any are, all of it
is sound."""


def finest(rate: float) -> Grid:
    """Return the grid that prints are measured on."""
    return Grid(size_for(FINEST_SECONDS, rate))


def print_bands(rate: float) -> npt.NDArray[np.int64]:
    """Return the first line of every band of a print, on the finest grid, and one past the last."""
    size = finest(rate).size
    lines = size // 2 + 1
    fine = min(lines, round(_FINE_TO_HZ * size / rate))
    octaves = np.log2(lines / max(1, fine))
    coarse = np.round(fine * 2 ** np.linspace(0, octaves, max(1, round(octaves * _PER_OCTAVE)) + 1)).astype(np.int64)
    return np.unique(np.concatenate([np.arange(fine), coarse, [lines]]))


def measured_print(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> list[list[float]]:
    """Return the print of spans that hold nothing but noise: for every channel the level of each band in dB.

    The level is that of the power in one line of the finest grid, over the energy of its window.
    """
    shortest = min(stop - start for start, stop in spans)
    size = min(finest(sound.rate).size, max(_LEAST_SIZE, 1 << max(0, shortest.bit_length() - 2)))
    grid = Grid(size, power=2)
    total, count = np.zeros((len(channels), size // 2 + 1)), 0
    for start, stop in blocks_of(spans, _BLOCK_FRAMES, progress, is_cancelled):
        first, last = grid.inside(start, stop)
        if last == first:
            continue
        block = sound.read(start, stop)
        for row, channel in enumerate(channels):
            total[row] += _powers(grid, np.ascontiguousarray(block[:, channel]), start, first, last).sum(axis=0)
        count += last - first
    if count == 0:
        start, stop = max(spans, key=lambda span: span[1] - span[0])
        block = sound.read(start, stop)
        for row, channel in enumerate(channels):
            total[row] = _powers(grid, np.ascontiguousarray(block[:, channel]), 0, 0, 1)[0]
        count = 1
    return _as_levels(total / count, grid, sound.rate)


def estimated_print(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> list[list[float]]:
    """Return the print of noise that lies under sound: what is there in the quietest moments, taken for less
    wherever it is not spread as noise is."""
    grid = Grid(finest(sound.rate).size, power=2)
    rows: list[list[npt.NDArray[np.float32]]] = [[] for _ in channels]
    blocks = sum(-(-(stop - start) // (_BLOCK_FRAMES * 8)) for start, stop in spans)
    most = max(_FEWEST_QUIET, _MOST_HELD // max(1, blocks))
    for start, stop in blocks_of(spans, _BLOCK_FRAMES * 8, progress, is_cancelled):
        block = sound.read(start, stop)
        first, last = grid.inside(start, stop)
        for row, channel in enumerate(channels):
            if last > first:
                powers = _powers(grid, np.ascontiguousarray(block[:, channel]), start, first, last)
                rows[row].append(_quietest(powers)[:most])
    return _as_levels(np.array([_at_rest(parts, grid) for parts in rows]), grid, sound.rate)


def _quietest(powers: npt.NDArray[np.float32]) -> npt.NDArray[np.float32]:
    """Return the windows with the least in most of their lines; digital silence is none."""
    powers = powers[powers.sum(axis=1) > 0]
    level = np.log(powers + np.float32(1e-20)).mean(axis=1)
    # Single windows of noise differ by chance: those are quiet whose neighbours are.
    level = scipy.ndimage.uniform_filter1d(level, _QUIET_WINDOWS, mode="nearest")
    count = max(min(_FEWEST_QUIET, len(powers)), round(_QUIET_SHARE * len(powers)))
    return powers[np.argsort(level)[:count]]


def _at_rest(parts: Sequence[npt.NDArray[np.float32]], grid: Grid) -> Powers:
    """Return the mean power of the noise in every line, from windows that are quiet.

    The powers of noise in some windows and neighbouring lines are distributed exponentially, so each of their quantiles
    tells their mean. What is no noise is spread wider, and then the low ones tell less: the least is believed. What
    differs in level from window to window is sound that has no pauses, and is taken for less still.
    """
    lines = grid.size // 2 + 1
    quiet = np.concatenate([*parts, np.zeros((0, lines), np.float32)])
    if not len(quiet):
        return np.zeros(lines)
    quiet = _quietest(quiet)
    quiet = quiet[:: -(-len(quiet) // _MOST_QUIET)]
    centres = np.unique(np.concatenate([np.arange(min(64, lines)), np.arange(64, lines, 4), [lines - 1]]))
    most, unrest = np.empty(len(centres)), np.empty(len(centres))
    for index, line in enumerate(centres.tolist()):
        reach = min(_MOST_BESIDE, max(_LEAST_BESIDE, line // 6))
        around = quiet[:, max(0, line - reach) : line + reach + 1]
        most[index] = np.min(np.quantile(around, _QUANTILES) / -np.log1p(-np.array(_QUANTILES)))
        unrest[index] = _unrest_db(around)
    is_steady = unrest <= _STEADY_DB
    hardly = max(0.0, _HARDLY_STEADY - float(is_steady.mean()))
    found = most * 10 ** (-(unrest * _LESS_FOR_UNREST + hardly * _LESS_IF_HARDLY) / 10)
    found = np.maximum(found, np.minimum(most, _between_the_steady(found, is_steady)))
    found = np.minimum(found, _about(found, centres) * 10 ** (_MOST_OVER_DB / 10))
    made: Powers = np.exp(np.interp(np.arange(lines), centres, np.log(found + 1e-20)))
    return made


def _about(found: Powers, centres: npt.NDArray[np.int64]) -> Powers:
    """Return the median of what was found in the lines about each, as far up as down."""
    half = 2 ** (_ABOUT_OCTAVES / 2)
    own = np.arange(len(found))
    first = np.maximum(0, np.minimum(np.searchsorted(centres, centres / half), own - _FEWEST_ABOUT)).tolist()
    last = np.maximum(np.searchsorted(centres, centres * half), own + _FEWEST_ABOUT + 1).tolist()
    return np.array([np.median(found[begin:end]) for begin, end in zip(first, last, strict=True)])


def _between_the_steady(found: Powers, is_steady: npt.NDArray[np.bool_]) -> Powers:
    """Return how loud noise can be thought to be where sound is in the way: as on the quieter side of it."""
    steady = np.flatnonzero(is_steady)
    if len(steady) < _MOSTLY_STEADY * len(found):
        return np.zeros(len(found))
    evened = scipy.ndimage.median_filter(np.log(found[steady] + 1e-20), _STEADY_LINES, mode="nearest")
    after = np.searchsorted(steady, np.arange(len(found)))
    above, below = evened[np.minimum(after, len(steady) - 1)], evened[np.maximum(after - 1, 0)]
    between: Powers = np.exp(np.minimum(above, below))
    between[(after == 0) | (after == len(steady))] = 0.0
    return between


def _unrest_db(powers: npt.NDArray[np.float32]) -> float:
    """Return by how many dB more than noise does some windows differ in level."""
    levels_db = 10 * np.log10(powers.mean(axis=1) + 1e-20)
    by_chance = 10 / np.log(10) / np.sqrt(powers.shape[1] / _LINES_ALIKE)
    # Where noise is all there is, nothing lies below it; what lies above may be a breath, and counts for less.
    low, middle = np.quantile(levels_db, (0.1, 0.5))
    spreads = np.array([levels_db.std(), (middle - low) / _TENTH_OF_NORMAL])
    excess = np.sqrt(np.maximum(0.0, spreads**2 - by_chance**2))
    return float(np.maximum(0.0, excess - _RESTLESS_DB) @ _SHARES_OF_UNREST)


def line_powers(levels_db: Sequence[float], rate: float, grid: Grid) -> Powers:
    """Return the mean power of noise in every line of a grid, from a print of one channel."""
    fine = finest(rate)
    powers = 10 ** (_between_bands(levels_db, rate, fine.size // 2 + 1) / 10)
    ratio = fine.size // grid.size
    if ratio > 1:
        # A shorter window sees every line spread by its own spectrum.
        seen = np.abs(np.fft.rfft(grid.window, fine.size)[: 3 * ratio]) ** 2
        kernel = np.concatenate([seen[:0:-1], seen])
        mirrored = np.pad(powers, len(seen) - 1, mode="reflect")
        powers = np.convolve(mirrored, kernel / kernel.sum(), "valid")[::ratio]
    made: Powers = powers * grid.size / 2
    return made


def is_print(levels_db: object, rate: object, channels: int) -> bool:
    """Return whether something that may come from anywhere is a print for so many channels."""
    if type(rate) is not int or not rate > 0:
        return False
    bands = len(print_bands(rate)) - 1
    return (
        isinstance(levels_db, list)
        and len(levels_db) == channels
        and all(isinstance(row, list) and len(row) == bands for row in levels_db)
        and all(type(level) is float and abs(level) <= 400 for row in levels_db for level in row)
    )


def print_spectrum_db(levels_db: Sequence[float], rate: float, lines: int) -> Powers:
    """Return a print of one channel as a mean spectrum of so many lines shows it: in dBFS, a full-scale sine at 0."""
    # Of a Hann window of N frames, the squares add up to 3 N / 8, and half the sum is N / 4.
    return _between_bands(levels_db, rate, lines) + 10 * np.log10(6 / (2 * (lines - 1)))


def _between_bands(levels_db: Sequence[float], rate: float, lines: int) -> Powers:
    """Return a print's levels at so many frequencies from 0 to half the rate."""
    edges = print_bands(rate)
    centres = (edges[:-1] + edges[1:] - 1) / 2 / (finest(rate).size // 2)
    made: Powers = np.interp(np.linspace(0, 1, lines), centres, np.asarray(levels_db))
    return made


def _powers(grid: Grid, wave: npt.NDArray[np.float32], at: int, first: int, last: int) -> npt.NDArray[np.float32]:
    return powers_of(grid.spectra(wave, at, first, last))


def _as_levels(powers: Powers, grid: Grid, rate: float) -> list[list[float]]:
    edges = print_bands(rate)
    lines = finest(rate).size // 2 + 1
    if powers.shape[1] != lines:
        at = np.linspace(0, powers.shape[1] - 1, lines)
        powers = np.array([np.interp(at, np.arange(powers.shape[1]), row) for row in powers])
    means = np.add.reduceat(powers / np.square(grid.window).sum(), edges[:-1], axis=1) / np.diff(edges)
    levels = 10 * np.log10(np.maximum(means, 10 ** (FAINTEST_DB / 10)))
    return [[round(level, 1) for level in row] for row in levels.tolist()]
