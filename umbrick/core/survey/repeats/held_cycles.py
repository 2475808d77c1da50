"""Held cycles: stretches in which one pitch cycle goes round while it fades, as a poor line conceals a lost packet.

The cycles of a voice are never quite alike; what repeats the one before it to within a thousandth of its energy, for
several cycles at the same lag to the sample, was not spoken.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d

from umbrick.core.model.cycles import best_cycles
from umbrick.core.sound.decimation import decimated
from umbrick.core.survey.detector import Block
from umbrick.core.survey.repeats.loops import begins_by_itself

Floats = npt.NDArray[np.float32]

_COARSE_RATE = 9000
_TAPS_PER_STEP = 4
_SHORTEST_SECONDS = 0.02
_HOP_SECONDS, _WINDOW_SECONDS = 0.007, 0.016
_SHORTEST_LAG_SECONDS, _LONGEST_LAG_SECONDS = 0.0024, 0.0165
_COARSELY_ALIKE, _ALIKE = 0.85, 0.97
"""How alike windows must be: at the lower rate, the less the rougher the wave is, but at least so much; at the full
one."""

_LEAST_DB = 18.0
_LEAST_OVER_DB = 9.0
"""What is hardly more alike than the voice beside it is that voice's own steadiness."""

_STEADY_DB = 33.0
_QUIETEST = 0.0007
_MOST_ALIKE = 1e-7
_LAG_SLACK = 1
_FINE_REACH = 2
_ROWS_AT_ONCE = 128
"""So that they stay in a processor's cache."""
_NEAR, _FAR_LESS_DB = 6, 25.0
"""A vowel beside a cycle that is held goes on at the same pitch, but its cycles are so much less alike."""

_EDGE_CYCLES, _EDGE_FALL_DB = 4, 30.0


class Held(NamedTuple):
    """Frames of the recording in which a cycle of ``lag`` frames goes round, how alike its turns are in dB, and by
    how many dB they are more alike than the voice beside it."""

    start: int
    stop: int
    lag: int
    alike_db: float
    over_db: float


class HeldCycles(NamedTuple):
    """The held cycles that begin in a block, how many windows of it are loud, and of these how many are hardly less
    alike to the cycle before them than a machine's."""

    found: list[Held]
    loud: int
    steady: int


def held_cycles(block: Block) -> HeldCycles:
    """Return the held cycles that begin in a block, and how steady the sound is by itself.

    References
    ----------
    The lag is that of the highest normalised cross-correlation (B. S. Atal, 1968), looked for at a lower rate first.
    """
    rate = block.rate
    wave = block.mono
    step = max(1, rate // _COARSE_RATE)
    hop, window = round(_HOP_SECONDS * rate), round(_WINDOW_SECONDS * rate)
    longest = round(_LONGEST_LAG_SECONDS * rate)
    firsts = np.arange(longest + 2 * step, len(wave) - window - 2 * step, hop)
    if not len(firsts):
        return HeldCycles([], 0, 0)
    coarse_lags, alike, roughness = _coarse(wave, step, firsts, window, longest)
    # A cycle that is held keeps its lag: what has it for a single window is not looked at closely.
    enough = alike > np.maximum(_ALIKE - roughness / 8, _COARSELY_ALIKE)
    steady = (np.abs(np.diff(coarse_lags)) <= step) & enough[1:] & enough[:-1]
    chosen = np.zeros(len(firsts), np.bool_)
    chosen[1:] |= steady
    chosen[:-1] |= steady
    lags = np.zeros(len(firsts), np.int64)
    alike_db = np.zeros(len(firsts))
    rows = np.flatnonzero(chosen)
    sums = np.zeros(len(wave) + 1)
    np.cumsum(np.square(wave, dtype=np.float64), out=sums[1:])
    loud = sums[firsts + window] - sums[firsts] > window * _QUIETEST**2 / 2
    if len(rows):
        lags[rows], alike_db[rows] = _fine(wave, sums, firsts[rows], window, coarse_lags[rows])
    own = loud & (firsts >= block.before) & (firsts < block.before + block.stop - block.start)
    steady = own & (alike_db >= _STEADY_DB)
    found = _stretches(block, wave, firsts, lags, alike_db, loud, window)
    return HeldCycles(found, int(own.sum()), int(steady.sum()))


def _coarse(wave: Floats, step: int, firsts: npt.NDArray[np.int64], window: int, longest: int) -> tuple[
    npt.NDArray[np.int64], npt.NDArray[np.float64], npt.NDArray[np.float64]
]:  # fmt: skip
    """Return for each window the best lag in frames, to within one or two, the correlation there, and how rough the
    wave is: the power of its steps as a share of its own. Half a frame off, what is the same seems unlike by an eighth
    of that."""
    low = decimated(wave, step, _TAPS_PER_STEP)
    size, reach = window // step, longest // step
    shortest = max(2, int(_SHORTEST_LAG_SECONDS * (longest / _LONGEST_LAG_SECONDS / step)))
    starts = firsts // step
    begins = np.clip(starts - reach, 0, len(low) - size - reach)
    segments = np.lib.stride_tricks.sliding_window_view(low, size + reach)[begins]
    own = segments[:, reach:]
    sums = np.concatenate([[0.0], np.cumsum(np.square(low, dtype=np.float64))])
    power = (sums[size:] - sums[:-size]).astype(np.float32)
    energies = np.lib.stride_tricks.sliding_window_view(power, reach)[begins]
    mine = power[begins + reach][:, np.newaxis]
    cycles = best_cycles(segments, energies * mine, shortest, 1e-18)
    rough = np.square(np.diff(own, axis=1)).sum(axis=1) / np.maximum(np.square(own).sum(axis=1), 1e-18)
    return np.round(cycles.lag * step).astype(np.int64), cycles.likeness, rough


def _fine(
    wave: Floats,
    sums: npt.NDArray[np.float64],
    firsts: npt.NDArray[np.int64],
    window: int,
    coarse: npt.NDArray[np.int64],
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.float64]]:
    """Return for each window the best lag to the frame, and how alike both are, in dB; 0 dB where it is quiet."""
    views = np.lib.stride_tricks.sliding_window_view(wave, window)
    own = views[firsts]
    power = np.square(own).sum(axis=1, dtype=np.float64)
    best = np.full(len(firsts), -1.0)
    lags = coarse.copy()
    for shift in range(-_FINE_REACH, _FINE_REACH + 1):
        tried = np.maximum(2, coarse + shift)
        earlier = firsts - tried
        energy = sums[earlier + window] - sums[earlier]
        likeness = np.einsum("ij,ij->i", own, views[earlier]) / np.sqrt(np.maximum(power * energy, 1e-18))
        better = likeness > best
        best[better], lags[better] = likeness[better], tried[better]
    # One value that is held is like itself at any lag, and no cycle.
    swings = power - np.square(own.mean(axis=1, dtype=np.float64)) * window > 0.1 * power
    chosen = np.flatnonzero(swings & (power > window * _QUIETEST**2 / 2) & (best > _ALIKE))
    alike_db = np.zeros(len(firsts))
    alike_db[chosen] = _alike_but_for_a_fade_db(own[chosen], views[firsts[chosen] - lags[chosen]])
    return lags, alike_db


def _alike_but_for_a_fade_db(own: Floats, earlier: Floats) -> npt.NDArray[np.float64]:
    """Return how like each row is to an earlier one with a gain that rises or falls in a line, in dB.

    What is held fades evenly, and is the more alike for it; a voice changes its wave as much as its level.
    """
    alike_db = np.zeros(len(own))
    for first in range(0, len(own), _ROWS_AT_ONCE):
        rows = slice(first, first + _ROWS_AT_ONCE)
        alike_db[rows] = _some_alike_db(own[rows], earlier[rows])
    return alike_db


def _some_alike_db(own: Floats, earlier: Floats) -> npt.NDArray[np.float64]:
    """Return it for few enough rows to be at hand all the time."""
    level = _products(earlier, earlier) + 1e-18
    # What a gain alone leaves is small, and is worked on with as much precision as is needed for it.
    rest = own - (_products(own, earlier) / level).astype(np.float32)[:, np.newaxis] * earlier
    tilted = earlier * np.linspace(-1, 1, own.shape[1], dtype=np.float32)
    tilt = _products(tilted, tilted) * (1 + 1e-6) - np.square(_products(earlier, tilted)) / level + 1e-18
    unexplained = _products(rest, rest) - np.square(_products(rest, tilted)) / tilt
    return np.asarray(-10 * np.log10(np.clip(unexplained / (_products(own, own) + 1e-18), _MOST_ALIKE, 1.0)))


def _products(one: Floats, other: Floats) -> npt.NDArray[np.float64]:
    """Return the inner product of each row with the same row of another."""
    return np.matmul(one[:, np.newaxis], other[:, :, np.newaxis])[:, 0, 0].astype(np.float64)


def _stretches(
    block: Block,
    wave: Floats,
    firsts: npt.NDArray[np.int64],
    lags: npt.NDArray[np.int64],
    alike_db: npt.NDArray[np.float64],
    loud: npt.NDArray[np.bool_],
    window: int,
) -> list[Held]:
    held = []
    count = len(firsts)
    strong = alike_db >= np.maximum(_LEAST_DB, maximum_filter1d(alike_db, 2 * _NEAR + 1) - _FAR_LESS_DB)
    # One stretch goes on as long as the lag stays the same.
    goes_on = strong[1:] & strong[:-1] & (np.abs(np.diff(lags)) <= _LAG_SLACK)
    edges = np.flatnonzero(np.diff(goes_on, prepend=False, append=False))
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        lag = int(np.sort(lags[begin : end + 1])[(end + 1 - begin) // 2])
        own_db = float(np.sort(alike_db[begin : end + 1])[(end + 1 - begin) // 2])
        # A hole beside it says nothing of how alike the cycles of this voice are.
        rows = np.concatenate(
            [np.arange(max(0, begin - 6), max(0, begin - 1)), np.arange(end + 2, min(count, end + 7))]
        )
        beside = np.sort(alike_db[rows[loud[rows]]])
        over_db = own_db - float(beside[int(0.8 * len(beside))]) if len(beside) else 0.0
        if over_db < _LEAST_OVER_DB:
            continue
        first, last = _edges(wave, int(firsts[begin]), int(firsts[end]) + window, lag, own_db)
        if begins_by_itself(wave, first, lag, block.rate):
            continue
        start, stop = (block.start - block.before + at for at in (first, last))
        if block.start <= start < block.stop and stop - start >= _SHORTEST_SECONDS * block.rate:
            held.append(Held(start, stop, lag, own_db, over_db))
    return held


def _edges(wave: Floats, first: int, last: int, lag: int, own_db: float) -> tuple[int, int]:
    """Return to about a millisecond where a cycle begins to go round, and where it no longer does.

    Windows one cycle long are followed outward from the middle as long as they are nearly as like the one before.
    """
    least_db = max(_LEAST_DB, own_db - _EDGE_FALL_DB)
    lag = _shortest_cycle(wave, (first + last) // 2, lag, least_db)
    step = max(1, lag // 8)
    reach = _EDGE_CYCLES * max(lag, (last - first) // 4)
    starts = np.arange(max(lag, first - reach), min(len(wave) - lag, last + reach), step)
    goes_round = _alike_db(wave, starts, lag) >= least_db
    middle = int(np.searchsorted(starts, (first + last - lag) // 2))
    if middle >= len(starts) or not goes_round[middle]:
        return first, last
    breaks = np.flatnonzero(~goes_round)
    left, right = breaks[breaks < middle], breaks[breaks > middle]
    begin = int(starts[left[-1] + 1]) if len(left) else first
    end = int(starts[right[0] - 1]) + lag if len(right) else last
    return begin, end


def _shortest_cycle(wave: Floats, middle: int, lag: int, least_db: float) -> int:
    """Return the cycle itself where what was found are two or more of it."""
    for parts in (4, 3, 2):
        near = lag // parts + np.arange(-1, 2)
        shorter = [int(cycle) for cycle in near if 8 <= cycle < min(middle, len(wave) - middle)]
        if shorter:
            alike = [float(_alike_db(wave, np.array([middle - cycle]), cycle)[0]) for cycle in shorter]
            if max(alike) >= least_db:
                return shorter[int(np.argmax(alike))]
    return lag


def _alike_db(wave: Floats, starts: npt.NDArray[np.int64], lag: int) -> npt.NDArray[np.float64]:
    """Return how alike each cycle is to the one before it, in dB."""
    views = np.lib.stride_tricks.sliding_window_view(wave, lag)
    return _alike_but_for_a_fade_db(views[starts], views[np.maximum(starts - lag, 0)])
