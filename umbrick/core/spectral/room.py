"""The room in a recording: how much of a sound is still there a while after it, and how loud late sound is."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source
from umbrick.core.spectral.grid import Grid, powers_of, size_for

Powers = npt.NDArray[np.float32]

_SECONDS = (0.043, 0.085)
_FROM_SECONDS, _TO_SECONDS = 0.06, 0.42
"""What comes earlier belongs to the voice and carries it; what comes later than that is soft."""

_LOWEST_HZ = 125.0
_STEEP_SHARE, _STEEPEST_SHARE = 0.05, 0.01
_TENTH = 0.1
_FIRST_OCTAVE, _LAST_OCTAVE = 2, 7
"""The octaves that carry most of a sound, from 250 Hz to 8 kHz."""

_FAINTEST_DB, _LOUDEST_DB, _BENT_DB = -60.0, 0.0, -35.0
_FLOOR_SHARE, _OVER_FLOOR, _UNDER_LOUD = 0.02, 30.0, 1e-5
_FEWEST = 100
_BLOCK_FRAMES = 1 << 20


class Rays(NamedTuple):
    """One length of window: its grid, the ages of what is late in windows, and the first line of every octave."""

    grid: Grid
    ages: tuple[int, ...]
    edges: tuple[int, ...]


class Falls(NamedTuple):
    """By how many dB sound has fallen some time later.

    ``steep_db`` is that of the steepest twentieth of all cases, by length of window, octave and age; ``early_db`` and
    ``late_db`` of the steepest hundredth, after a tenth of a second and after 0.4 s, in the octaves that carry most.
    """

    steep_db: list[list[list[float]]]
    early_db: float
    late_db: float


class Decay(NamedTuple):
    """How sound dies away: the level in dB against what it was, so many seconds later; by the octaves that carry most
    of it, beginning with 0 dB at once."""

    seconds: tuple[float, ...]
    levels_db: tuple[float, ...]

    @property
    def sixty_db_seconds(self) -> float:
        """How long it takes to fall by 60 dB at this pace; infinite where nothing dies away."""
        # What comes first is the direct sound that is gone, and what has fallen far is bent by the noise.
        falling = [at for at in range(1, len(self.seconds)) if self.levels_db[at] > _BENT_DB]
        if len(falling) < 2:
            return self.seconds[1] if len(self.seconds) > 1 else float("inf")
        seconds, levels_db = (np.array(column)[falling] for column in (self.seconds, self.levels_db))
        slope = float(np.polyfit(seconds, levels_db, 1)[0])
        return -60 / slope if slope < -1 else float("inf")

    def level_db(self, seconds: float) -> float:
        """Return the level so many seconds later."""
        return float(np.interp(seconds, self.seconds, self.levels_db))


def decay_of(falls: Falls, rate: int) -> Decay:
    """Return how sound dies away, by its steep falls."""
    one = rays(rate)[0]
    levels_db = np.median(np.array(falls.steep_db[0])[_FIRST_OCTAVE:_LAST_OCTAVE], axis=0)
    seconds = (age * one.grid.hop / rate for age in one.ages)
    return Decay((0.0, *seconds), (0.0, *levels_db.tolist()))


@lru_cache(maxsize=8)
def rays(rate: int) -> tuple[Rays, ...]:
    """Return the lengths of window that a room is measured, and taken out, with."""
    return tuple(_rays(size_for(seconds, rate), rate) for seconds in _SECONDS)


def _rays(size: int, rate: int) -> Rays:
    grid = Grid(size)
    first, last = (seconds * rate / grid.hop for seconds in (_FROM_SECONDS, _TO_SECONDS))
    octaves = _LOWEST_HZ * 2.0 ** np.arange(int(np.log2(rate / 2 / _LOWEST_HZ)))
    edges = sorted({0, *np.ceil(octaves * size / rate).astype(int).tolist()})
    return Rays(grid, tuple(range(int(np.ceil(first)), max(int(last), int(np.ceil(first))) + 1)), tuple(edges))


def falls_of(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Falls | None:
    """Return how sound dies away in its room; None where there is too little of it to tell.

    However fast it breaks off, no sound falls faster than its room lets it: of all the falls in a recording the
    steepest twentieth are those of the room (E. A. P. Habets, S. Gannot, I. Cohen, 2009, take its decay for known; the
    low quantiles of decays tell it: J. Y. C. Wen, E. A. P. Habets, P. A. Naylor, 2008). Where not even the steepest
    hundredth is much steeper, nothing but the room lets sound die away. ``spans`` are in order and apart.
    """
    every = rays(sound.rate)
    found: list[list[list[Powers]]] = [[[] for _ in spans] for _ in every]
    for start, stop in blocks_of(spans, _BLOCK_FRAMES, progress, is_cancelled):
        number = bisect_right(spans, start, key=lambda span: span[0]) - 1
        block = sound.read(start, min(spans[number][1], stop + every[-1].grid.size))[:, list(channels)]
        for one, rows in zip(every, found, strict=True):
            grid = one.grid
            first, last = grid.inside(start, start + len(block))
            last = min(last, -(-stop // grid.hop))
            if last > first:
                rows[number].append(np.add.reduceat(_powers(block, start, first, last, grid), one.edges, axis=1))
    steep = [_falls_db(one, rows, _STEEP_SHARE) for one, rows in zip(every, found, strict=True)]
    if not all(steep):
        return None
    one, steepest = every[0], _falls_db(every[0], found[0], _STEEPEST_SHARE)[_FIRST_OCTAVE:_LAST_OCTAVE]
    tenth = min(range(len(one.ages)), key=lambda at: abs(one.ages[at] * one.grid.hop / sound.rate - _TENTH))
    early_db, late_db = (round(float(np.median([row[at] for row in steepest])), 1) for at in (tenth, -1))
    return Falls(steep, early_db, late_db)


def _powers(block: npt.NDArray[np.float32], at: int, first: int, last: int, grid: Grid) -> Powers:
    """Return the powers of windows, those of the channels added up."""
    total = np.zeros((last - first, grid.size // 2 + 1), np.float32)
    for channel in range(block.shape[1]):
        spectra = grid.spectra(np.ascontiguousarray(block[:, channel], np.float32), at, first, last)
        total += powers_of(spectra)
    return total


def _falls_db(one: Rays, rows: Sequence[Sequence[Powers]], share: float) -> list[list[float]]:
    """Return by how much sound has fallen in so small a share of all cases, by octave and age."""
    stretches = [over_time(np.concatenate(parts)) for parts in rows if parts]
    known: dict[int, list[float]] = {}
    for octave in range(len(one.edges)):
        tracks = [stretch[:, octave] for stretch in stretches]
        together = np.concatenate([np.zeros(0, np.float32), *tracks])
        together = together[together > 0]
        if len(together) < _FEWEST:
            continue
        # Noise lets nothing fall below it.
        floor, loud = np.quantile(together, (_FLOOR_SHARE, 0.99))
        least = float(max(_OVER_FLOOR * floor, _UNDER_LOUD * loud))
        falls = [_falls(tracks, age, least) for age in one.ages]
        if min(map(len, falls)) >= _FEWEST:
            known[octave] = [_quantile_db(own, share) for own in falls]
    # An octave in which nothing stands out of the noise is taken for the next one that tells.
    nearest = (min(known, key=lambda other: abs(other - octave), default=-1) for octave in range(len(one.edges)))
    return [known[octave] for octave in nearest if octave >= 0]


def _falls(tracks: Sequence[Powers], age: int, least: float) -> Powers:
    """Return what is left of all that is louder than the least, so many windows later."""
    falls = [track[age:][track[:-age] > least] / track[:-age][track[:-age] > least] for track in tracks]
    return np.concatenate([np.zeros(0, np.float32), *falls])


def _quantile_db(falls: Powers, share: float) -> float:
    left = float(np.quantile(falls, share))
    return round(float(np.clip(10 * np.log10(left + 1e-9), _FAINTEST_DB, _LOUDEST_DB)), 1)


def over_time(powers: Powers) -> Powers:
    """Return the powers of windows with those beside each."""
    beside = np.pad(powers, ((1, 1), (0, 0)), mode="edge")
    made: Powers = (beside[:-2] + 2 * powers + beside[2:]) * np.float32(0.25)
    return made


def late_powers(one: Rays, powers: Powers, falls_db: Sequence[Sequence[float]]) -> Powers:
    """Return how much of the power of windows is late, at the most; without the first so many as the oldest is old.

    ``powers`` are those of windows averaged over time, ``falls_db`` the steep falls of this length.
    """
    shares = (10 ** (np.asarray(falls_db) / 10)).astype(np.float32)
    widths = np.diff([*one.edges, powers.shape[1]])
    oldest = one.ages[-1]
    count = len(powers) - oldest
    late = np.zeros((count, powers.shape[1]), np.float32)
    for number, age in enumerate(one.ages):
        earlier = powers[oldest - age : oldest - age + count]
        np.maximum(late, earlier * np.repeat(shares[:, number], widths), out=late)
    return late
