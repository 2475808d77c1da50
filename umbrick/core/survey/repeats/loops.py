"""Whether what comes again was meant to: a steady tone, a machine's pulses, or a note with ends of its own.

A buffer that is played twice begins and ends anywhere in the sound, and holds more than a few tones.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, next_fast_len, rfft

from umbrick.core.survey.beats import off_beat
from umbrick.core.survey.steps import is_stepped
from umbrick.core.survey.tones.keyed import is_keyed

Floats = npt.NDArray[np.float32]

_FEW_LINES, _THEIR_SHARE = 3, 0.9995
_SEVERAL_TIMES, _MOST_TURNS, _WHOLE_TURNS_SHARE, _EXACTLY_WHOLE_TURNS = 2.2, 200, 0.97, 0.99999
_ONSET_SECONDS, _BEFORE_SECONDS, _SILENCE_DB = 0.002, 0.01, -24.0
_MOMENT_SECONDS, _SILENT = 0.00025, 0.003
_DIP_SECONDS, _BESIDE_SECONDS, _DIPS = 0.00008, 0.002, 0.09
_SAME_BEFORE, _STEADY = 0.9995, 0.9998
_AFTER_SHARE, _SAME_AFTER = 0.25, 1e-7
_SHORTEST_STEADY_SECONDS, _LONGEST_STEADY_SECONDS = 0.002, 0.02
_SHORTEST_BEAT_SECONDS, _BEAT_SLACK, _FEWEST_IN_TIME, _NEARBY = 0.1, 0.02, 4, 32
"""No buffer of sound is as long as a beat's part."""

_ECHO_SECONDS, _SAME_LAG_SECONDS, _ECHO_DB = 0.1, 0.001, -1.0
"""An echo comes no sooner, always as late, and fainter than what it repeats."""

_PLACED_SECONDS = 0.005
"""Where a repeat that is not exact begins is known to so much."""


def is_tone(wave: Floats, start: int, stop: int, lag: int, rate: int) -> bool:
    """Whether frames that are those ``lag`` before are one, two or three steady tones, a keyed one, a chip's pulses, or
    a note with overtones that goes on for several turns, and begins by itself or without a break from one turn to the
    next."""
    again = wave[start:stop]
    if is_keyed(again, rate) or is_stepped(again) or is_steady(again, rate):
        return True
    if _goes_on(wave, start, lag) or _goes_on_after(wave, stop, lag):
        return True
    # From one coming to the next the spectrum is exact.
    lines = np.square(np.abs(rfft(wave[start - lag : start].astype(np.float64))))[1:]
    power = float(lines.sum())
    if np.sort(lines)[-_FEW_LINES:].sum() >= _THEIR_SHARE * power:
        return True
    turns = range(2, min(_MOST_TURNS, len(lines) // 2))
    share = max((float(lines[number - 1 :: number].sum()) for number in turns), default=0.0) / max(power, 1e-30)
    if share >= _EXACTLY_WHOLE_TURNS:
        return True
    if stop - start < _SEVERAL_TIMES * lag:
        return False
    if _breaks_off(wave, start, lag) and not begins_by_itself(wave, start, lag, rate):
        return False
    return share >= _WHOLE_TURNS_SHARE


def _goes_on(wave: Floats, start: int, lag: int) -> bool:
    """Whether what comes again was hardly different before: some cycles of an instrument's note."""
    if start < 2 * lag:
        return False
    cycle, before = (wave[at : at + lag].astype(np.float64) for at in (start - lag, start - 2 * lag))
    return bool(cycle @ before > _SAME_BEFORE * np.sqrt((cycle @ cycle) * (before @ before)))


def _goes_on_after(wave: Floats, stop: int, lag: int) -> bool:
    """Whether the likeness only stops being exact: rounding parts the cycles of a synthesizer's note, while a buffer
    that was played twice is followed by other sound."""
    frames = max(round(_AFTER_SHARE * lag), 2)
    after, before = (wave[at : at + frames].astype(np.float64) for at in (stop, stop - lag))
    if len(after) < frames:
        return False
    return bool(np.square(after - before).sum() < _SAME_AFTER * np.square(before).sum())


def is_steady(wave: Floats, rate: int) -> bool:
    """Whether a stretch is one pitch cycle over and over, more alike than any voice or played note has it."""
    longest = min(round(_LONGEST_STEADY_SECONDS * rate), len(wave) // 2)
    shortest = max(2, round(_SHORTEST_STEADY_SECONDS * rate))
    if longest <= shortest:
        return False
    own = wave.astype(np.float64)
    size = next_fast_len(2 * len(own), real=True)
    lags = np.arange(shortest, longest)
    products = irfft(np.square(np.abs(rfft(own, size))), size)[lags]
    sums = np.concatenate([[0.0], np.cumsum(own**2)])
    energies = (sums[len(own) - lags]) * (sums[-1] - sums[lags])
    return bool((products >= _STEADY * np.sqrt(energies)).any() and sums[-1] > 0)


def _breaks_off(wave: Floats, start: int, lag: int) -> bool:
    """Whether the wave bends more where one turn goes over into the next than anywhere within it."""
    bends = np.abs(np.diff(wave[start - lag : start + 2], 2))
    return bool(bends[-2:].max() > bends[:-2].max())


def begins_by_itself(wave: Floats, start: int, lag: int, rate: int) -> bool:
    """Whether there is silence before what comes again ``lag`` later, at ``start``; what a line conceals goes on with
    sound from before."""
    stop = max(0, start - lag - round(_ONSET_SECONDS * rate))
    before = wave[max(0, stop - round(_BEFORE_SECONDS * rate)) : stop]
    own = float(np.square(wave[start : start + lag], dtype=np.float64).mean())
    return len(before) > 0 and float(np.square(before, dtype=np.float64).mean()) < own * 10 ** (_SILENCE_DB / 10)


def has_own_ends(wave: Floats, start: int, stop: int, rate: int) -> bool:
    """Whether a stretch of a wave begins and ends in silence, or where the sound was faded for a cut."""
    moment = max(2, round(_MOMENT_SECONDS * rate))
    silent = _SILENT * float(np.abs(wave[start:stop]).max())
    if all(min(_peak(wave[at : at + moment]), _peak(wave[max(0, at - moment) : at])) <= silent for at in (start, stop)):
        return True
    return all(_dips(wave, at, rate) for at in (start, stop))


def _peak(wave: Floats) -> float:
    return float(np.abs(wave).max(initial=0.0))


def _dips(wave: Floats, at: int, rate: int) -> bool:
    """Whether the sound is faint for a moment, and on both sides of it is not; at the wave's end it goes on unseen."""
    moment, beside = max(2, round(_DIP_SECONDS * rate)), round(_BESIDE_SECONDS * rate)
    if at == len(wave):
        return True
    here, left, right = wave[max(0, at - moment) : at + moment], wave[max(0, at - beside) : at], wave[at : at + beside]
    if not len(left) or not len(right):
        return False
    powers = [float(np.square(part, dtype=np.float64).mean()) for part in (here, left, right)]
    return powers[0] <= _DIPS**2 * min(powers[1:])


def in_time(repeats: Sequence[tuple[int, int]], rate: int) -> list[bool]:
    """Return which repeats are an arranger's: several have the same long lag, and begin whole lags apart.

    Parameters
    ----------
    repeats : sequence of (int, int)
        Start and lag of each, in frames.
    rate : int
    """
    starts, lags = np.array(repeats, np.float64).reshape(-1, 2).T
    long = np.flatnonzero(lags >= _SHORTEST_BEAT_SECONDS * rate)
    long = long[np.argsort(starts[long], kind="stable")]
    meant = np.zeros(len(repeats), np.bool_)
    for number, row in enumerate(long.tolist()):
        # In a recording of hours those nearby tell enough.
        near = long[max(0, number - _NEARBY) : number + _NEARBY]
        lag = lags[row]
        is_alike = np.abs(lags[near] / lag - 1) <= _BEAT_SLACK
        is_on_beat = off_beat(starts[near] - starts[row], lag) <= max(_BEAT_SLACK, _PLACED_SECONDS * rate / lag)
        meant[row] = (is_alike & is_on_beat).sum() >= _FEWEST_IN_TIME
    return [bool(one) for one in meant]


def are_echoes(lags: Sequence[int], gains_db: Sequence[float], rate: int) -> list[bool]:
    """Return which repeats are an echo's: fainter than what they repeat, and another such comes just as late.

    Parameters
    ----------
    lags : sequence of int
        In frames.
    gains_db : sequence of float
        How much louder each is than what it repeats.
    rate : int
    """
    lag, gain_db = np.array(lags, np.float64), np.array(gains_db, np.float64)
    is_one = (lag >= _ECHO_SECONDS * rate) & (gain_db <= _ECHO_DB)
    theirs, slack = np.sort(lag[is_one]), _SAME_LAG_SECONDS * rate
    as_late = np.searchsorted(theirs, lag + slack, side="right") - np.searchsorted(theirs, lag - slack)
    return [bool(one) for one in is_one & (as_late > 1)]
