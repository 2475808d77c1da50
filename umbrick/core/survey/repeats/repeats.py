"""Exact repeats: stretches whose samples are those of a stretch shortly before, one by one.

What a buffer plays twice is the same to the last bit. Fingerprints of the samples after each turn of the wave are
compared with those of up to a second before, so that a repeat of any length and lag costs no more than a look-up;
then the stretch is followed sample by sample.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float32]
Integers = npt.NDArray[np.int64]

FINGERPRINT_FRAMES = 10
_LOOKED_AT_FRAMES, _ROWS_AT_ONCE = 128, 1024
_FRAMES_PER_TURN = 20
"""About one turn of the wave in so many frames is looked up, if there are as many."""


class Repeat(NamedTuple):
    """Frames ``start`` to ``stop`` are those ``lag`` frames earlier."""

    start: int
    stop: int
    lag: int


def exact_repeats(wave: Floats, longest_lag: int, shortest: int) -> list[Repeat]:
    """Return the repeats in a wave, in order.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        One channel.
    longest_lag : int
        How far back a stretch is looked for, in frames.
    shortest : int
        Frames a repeat has at least.
    """
    turns = np.flatnonzero((wave[1:-1] > wave[:-2]) & (wave[1:-1] >= wave[2:])) + 1
    turns = turns[turns + FINGERPRINT_FRAMES < len(wave)]
    values = np.ascontiguousarray(wave).view(np.uint32)
    # Of many turns some are enough, chosen by their own value: a repeat chooses the same. Samples of few bits differ in
    # the upper bits of what is made of them only.
    share = round(len(turns) * _FRAMES_PER_TURN / max(1, len(wave)))
    if share > 1:
        turns = turns[(values[turns] * np.uint32(2654435761) >> np.uint32(16)) % np.uint32(share) == 0]
    if len(turns) < 2:
        return []
    weights = np.random.default_rng(7).integers(1, 2**63, FINGERPRINT_FRAMES, dtype=np.uint64) | np.uint64(1)
    prints = np.zeros(len(turns), np.uint64)
    for offset in range(FINGERPRINT_FRAMES):
        prints += values[turns + offset].astype(np.uint64) * weights[offset]
    # Sorted with their own place as the last bits, equal ones are neighbours, and in order.
    places = np.uint64((1 << len(turns).bit_length()) - 1)
    prints = np.sort((prints & ~places) | np.arange(len(turns), dtype=np.uint64))
    in_order = turns[(prints & places).astype(np.int64)]
    same = (prints[1:] ^ prints[:-1]) <= places
    earlier, later = in_order[:-1][same], in_order[1:][same]
    lags = later - earlier
    near = lags <= longest_lag
    earlier, later, lags = earlier[near], later[near], lags[near]
    lasts = _lasts(values, earlier, later, min(shortest // 2, _LOOKED_AT_FRAMES))
    later, lags = later[lasts], lags[lasts]
    repeats: list[Repeat] = []
    for index in np.argsort(later, kind="stable").tolist():
        at, lag = int(later[index]), int(lags[index])
        if repeats and repeats[-1].lag == lag and at < repeats[-1].stop:
            continue
        found = _followed(wave, at, lag)
        if found.stop - found.start >= shortest and _sounds(wave[found.start : found.stop]):
            repeats.append(found)
    return repeats


def _lasts(values: npt.NDArray[np.uint32], earlier: Integers, later: Integers, frames: int) -> npt.NDArray[np.bool_]:
    """Return where two places are followed, or preceded, by as many frames that are the same."""
    lasts = np.zeros(len(later), np.bool_)
    if len(values) < frames:
        return lasts
    views = np.lib.stride_tricks.sliding_window_view(values, frames)
    for back in (0, frames):
        rows = np.flatnonzero((earlier >= back) & (later - back < len(views)) & ~lasts)
        for first in range(0, len(rows), _ROWS_AT_ONCE):
            some = rows[first : first + _ROWS_AT_ONCE]
            lasts[some] = (views[earlier[some] - back] == views[later[some] - back]).all(axis=1)
    return lasts


def _followed(wave: Floats, at: int, lag: int) -> Repeat:
    """Return how far, both ways, the wave equals itself a lag earlier."""
    reach = 1 << 12
    stop = at
    while True:
        part = wave[stop : stop + reach] == wave[stop - lag : stop - lag + min(reach, len(wave) - stop)]
        stop += len(part) if part.all() else int(np.argmin(part))
        if not part.all() or stop >= len(wave):
            break
    start = at
    while start - lag > 0:
        low = max(lag, start - reach)
        part = wave[low:start] == wave[low - lag : start - lag]
        if part.all():
            start = low
            if low == lag:
                break
        else:
            start = low + int(np.flatnonzero(~part)[-1]) + 1
            break
    return Repeat(start, stop, lag)


def _sounds(wave: Floats) -> bool:
    """Whether a stretch holds more than silence and a few values of the converter's last bits."""
    return len(np.unique(wave[:512])) >= 12
