"""How the level of a noise drifts through a recording, against its print."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source
from umbrick.core.spectral.grid import powers_of
from umbrick.core.spectral.noise_print import finest, line_powers

Levels = npt.NDArray[np.float64]

STEP_SECONDS = 5.0
"""The level is told for moments so far apart."""

_REACH_SECONDS = 10.0
_LOWEST_HZ, _HIGHEST_HZ = 150.0, 8000.0
_MOST_UNEVEN_DB = 6.6
"""Noise of a print's shape differs from it by chance, from line to line by 5.6 dB; whatever sounds over it by more."""

_QUANTILE = 0.25
_FEWEST = 3
_MOST_DOWN_DB, _MOST_UP_DB = -30.0, 20.0
_BLOCK_FRAMES = 1 << 20
_MEDIAN_DB = 10 * np.log10(np.log(2))
"""The median of powers that are distributed exponentially, against their mean."""


def noise_drift(
    sound: Source,
    channels: Sequence[int],
    levels_db: Sequence[Sequence[float]],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> list[float]:
    """Return by how many dB noise is louder than its print, every five seconds from the start of a sound.

    Only windows that are nothing but such noise tell; where there are none the level goes over from one to the next.
    ``levels_db`` are the prints of the channels. Empty where nothing tells.
    """
    grid, rate = finest(sound.rate), sound.rate
    hz = np.arange(grid.size // 2 + 1) * rate / grid.size
    seen = (hz >= _LOWEST_HZ) & (hz <= min(_HIGHEST_HZ, 0.45 * rate))
    if not seen.any():
        return []
    prints = [np.maximum(line_powers(row, rate, grid)[seen], 1e-20) for row in levels_db]
    found: list[npt.NDArray[np.float32]] = []
    for start, stop in blocks_of([(0, sound.frames)], _BLOCK_FRAMES, progress, is_cancelled):
        block = sound.read(start, min(sound.frames, stop + grid.size))
        first, last = grid.inside(start, start + len(block))
        last = min(last, -(-stop // grid.hop))
        if last <= first:
            continue
        over = np.full((len(prints), last - first), np.nan, np.float32)
        for row, (channel, own) in enumerate(zip(channels, prints, strict=True)):
            spectra = grid.spectra(np.ascontiguousarray(block[:, channel]), start, first, last)[:, seen]
            ratio_db = 10 * np.log10(powers_of(spectra) / own + 1e-20)
            is_noise = ratio_db.std(axis=1) <= _MOST_UNEVEN_DB
            over[row, is_noise] = np.median(ratio_db[is_noise], axis=1) - _MEDIAN_DB
        # Noise that all channels hear: what sounds in any of them is none.
        found.append(over.max(axis=0))
    return _every_step(np.concatenate([np.zeros(0, np.float32), *found]), grid.hop / rate, sound.frames / rate)


def _every_step(over_db: npt.NDArray[np.float32], hop_seconds: float, seconds: float) -> list[float]:
    """Return the level around every step, from that of windows of which most say nothing."""
    reach, step = (round(span / hop_seconds) for span in (_REACH_SECONDS, STEP_SECONDS))
    count = int(seconds // STEP_SECONDS) + 1
    told = np.full(count, np.nan)
    for number in range(count):
        around = over_db[max(0, number * step - reach) : number * step + reach]
        around = around[~np.isnan(around)]
        if len(around) >= _FEWEST:
            told[number] = np.quantile(around, _QUANTILE)
    known = np.flatnonzero(~np.isnan(told))
    if not len(known):
        return []
    whole = np.clip(np.interp(np.arange(count), known, told[known]), _MOST_DOWN_DB, _MOST_UP_DB)
    return [round(level, 1) for level in whole.tolist()]


def drift_at(drift_db: Sequence[float], seconds: Levels) -> Levels:
    """Return the drift at some times, straight from one step to the next; 0 if nothing is known of it."""
    if not drift_db:
        return np.zeros(len(seconds))
    made: Levels = np.interp(seconds, STEP_SECONDS * np.arange(len(drift_db)), np.asarray(drift_db, np.float64))
    return made
