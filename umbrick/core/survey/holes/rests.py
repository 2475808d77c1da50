"""Rests: holes that were meant, and are not missing sound.

Missing sound is sound that goes on after the hole as it would have gone on without it, and that breaks off in mid-wave.
A pause comes where a sound has died away or is faded, or lies between different sounds; it comes again and again in
even time, or beside others like it. No published method is followed. The weights are those of a logistic regression
on holes planted in clean speech and music, against the pauses of keyed tones, gates, sequencers and synthetic voices.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.beats import off_beat
from umbrick.core.survey.holes.tones_across import tones_across

Wave = npt.NDArray[np.float64]

BESIDE_SECONDS = 0.1
"""How much sound on either side is looked at."""

_PART_SECONDS, _MOMENT_SECONDS, _OFTEN = 0.006, 0.0006, 0.1
_SILENT_SECONDS, _SILENT = 0.003, 0.03
_TONAL_SHARE, _TONAL_DOUBT = 0.8, 0.3

_WEIGHTS_OF = {
    "died away, more": -1.57,
    "died away, less": -3.37,
    "faded, more": -1.12,
    "faded, less": -2.54,
    "other tones": -7.96,
    "decades of length": -1.12,
    "": 3.08,
}
"""What each measure adds to the log odds that sound is missing."""

_WEIGHTS = np.array(list(_WEIGHTS_OF.values()))

_EVEN = -6.0
"""What holes that come again in even time add to the log odds."""

_EVEN_SHARE, _SHORTEST_EVEN_SECONDS = 0.04, 0.012
"""Holes that are shorter, or a smaller share of the time from one to the next, are damage that comes again."""

_LONGEST_CYCLE_SECONDS, _CYCLE_SLACK = 0.04, 0.1
"""What comes again sooner lies between the cycles of a low note, however short."""

_EVEN_SLACK = 0.02
_FEWEST_EVEN = 3
_SHORTEST_BEAT_SECONDS, _FEWEST_ON_BEAT = 0.1, 3
"""Holes of that length that begin and end on the beats of one time are an arranger's."""

_LEAST_ODDS, _MOST_ODDS = -1.0, 3.0
_USUAL_ODDS = 1.0
"""Recordings have missing sound, with more than that in the mean, or rests, with less; bounded, so that none of their
holes decides for all."""

_COMPANY, _LEAST_COMPANY, _MOST_COMPANY = 0.8, -2.7, 3.0
"""How much each other hole counts, and how little and much they count together."""


def missing_odds(measures: Mapping[str, float]) -> float:
    """Return the log odds that a hole with such measures is missing sound, and not a rest."""
    return float(np.array(list(measures.values())) @ _WEIGHTS)


def measured(before: Wave, after: Wave, frames: int, rate: int) -> dict[str, float]:
    """Return what tells a rest from missing sound.

    Parameters
    ----------
    before, after : ndarray
        One channel on either side of the hole, up to ``BESIDE_SECONDS`` of it.
    frames : int
        Length of the hole.
    rate : int
    """
    sides = before, after[::-1]
    ends = [_end_db(side, rate) for side in sides]
    died, faded = (sorted((one, other), reverse=True) for one, other in zip(*ends, strict=True))
    milliseconds = 1e3 * frames / rate
    across = tones_across(_without_pause(sides[0], rate), _without_pause(sides[1], rate)[::-1], frames, rate)
    tonal = max(0.0, 1 - across.doubt / _TONAL_DOUBT) if across.share > _TONAL_SHARE else 0.0
    return {
        "died away, more": float(np.clip(died[0] - 10, 0, 25)) / 10,
        "died away, less": float(np.clip(died[1] - 8, 0, 20)) / 10,
        "faded, more": float(np.clip(faded[0], 0, 20)) / 5,
        "faded, less": float(np.clip(faded[1], 0, 15)) / 5,
        "other tones": tonal * float(np.clip(0.8 - across.likeness, -0.2, 1)),
        "decades of length": float(np.log10(max(1.0, milliseconds / 10))),
        "": 1.0,
    }


def _end_db(side: Wave, rate: int) -> tuple[float, float]:
    """Return how far the end of a stretch lies below its loudest part, and how far its very last is fainter than it
    often is for a moment, as between the pulses of a voice."""
    part, moment = _frames(_PART_SECONDS, rate), _frames(_MOMENT_SECONDS, rate)
    powers = np.square(_in_parts(side, part)).mean(axis=1)
    peaks = np.abs(_in_parts(side, moment)).max(axis=1)
    beside = part // moment
    lately = np.lib.stride_tricks.sliding_window_view(np.pad(peaks, (beside, 0)), beside + 1).max(axis=1)
    beside_db = 20 * np.log10((peaks + 1e-9) / (lately + 1e-9))
    often_db = float(np.quantile(beside_db[:-1], _OFTEN)) if len(peaks) > 1 else 0.0
    return _db(float(powers.max())) - _db(float(powers[-1])), often_db - float(beside_db[-1])


def _in_parts(side: Wave, frames: int) -> Wave:
    """Return as many whole parts as there are up to the end of a stretch, a row each; all of it if it is shorter."""
    count = len(side) // frames
    return side[len(side) - count * frames :].reshape(count, frames) if count else side[np.newaxis]


def _without_pause(side: Wave, rate: int) -> Wave:
    """Return the end of a stretch, as far back as it goes without a pause."""
    part = _frames(_SILENT_SECONDS, rate)
    peaks = np.abs(_in_parts(side, part)).max(axis=1)[::-1]
    silent = np.flatnonzero(peaks < _SILENT * peaks.max())
    return side[len(side) - int(silent[0]) * part :] if len(silent) and silent[0] > 1 else side


def _db(power: float) -> float:
    return float(10 * np.log10(power + 1e-18))


def _frames(seconds: float, rate: int) -> int:
    return max(2, round(seconds * rate))


def confidences(
    starts: Sequence[int], stops: Sequence[int], odds: Sequence[float], weights: Sequence[float], rests: int, rate: int
) -> list[float]:
    """Return how sure it is that sound is missing in holes, from 0 to 1, each in the company of the others.

    Parameters
    ----------
    starts, stops : sequence of int
        The holes, in order of time.
    odds : sequence of float
        The :func:`missing_odds` of each.
    weights : sequence of float
        How sure each is a hole at all, from 0 to 1.
    rests : int
        How many other pauses of the same kind there are, which surely are rests.
    rate : int
    """
    begins, ends = np.array(starts, np.int64), np.array(stops, np.int64)
    is_even = _come_evenly(begins, ends, rate) | _lie_on_beats(begins, ends, rate)
    alone = np.array(odds, np.float64) + _EVEN * is_even
    says = np.array(weights) * (np.clip(alone, _LEAST_ODDS, _MOST_ODDS) - _USUAL_ODDS)
    others = says.sum() - says + (_LEAST_ODDS - _USUAL_ODDS) * rests
    company = np.clip(_COMPANY * others, _LEAST_COMPANY, _MOST_COMPANY)
    return [float(sure) for sure in 1 / (1 + np.exp(-(alone + company)))]


def _come_evenly(starts: npt.NDArray[np.int64], stops: npt.NDArray[np.int64], rate: int) -> npt.NDArray[np.bool_]:
    """Whether holes have several neighbours at the same distance, and are no small part of it."""
    shortest, longest_cycle = _SHORTEST_EVEN_SECONDS * rate, _LONGEST_CYCLE_SECONDS * rate
    even = np.zeros(len(starts), np.bool_)
    steps, lengths = np.diff(starts), stops - starts
    for first in range(len(steps) - _FEWEST_EVEN + 1):
        some, of = steps[first : first + _FEWEST_EVEN], slice(first, first + _FEWEST_EVEN + 1)
        is_part = lengths[of].min() >= shortest or some.max() <= longest_cycle
        is_part &= lengths[of].mean() > _EVEN_SHARE * some.mean()
        slack = _EVEN_SLACK if some.max() > longest_cycle else _CYCLE_SLACK
        if is_part and np.ptp(some) <= max(2.0, slack * some.mean()):
            even[of] = True
    return even


def _lie_on_beats(starts: npt.NDArray[np.int64], stops: npt.NDArray[np.int64], rate: int) -> npt.NDArray[np.bool_]:
    """Whether holes are as long as the shortest long one or a multiple, and begin multiples of it from one another."""
    lengths = (stops - starts).astype(np.float64)
    long = lengths >= _SHORTEST_BEAT_SECONDS * rate
    if long.sum() < _FEWEST_ON_BEAT:
        return np.zeros(len(starts), np.bool_)
    beat = float(lengths[long].min())
    first = int(starts[int(np.argmax(long))])
    off = np.maximum(off_beat(lengths, beat), off_beat((starts - first).astype(np.float64), beat))
    on_beat = long & (off <= _EVEN_SLACK)
    return on_beat if on_beat.sum() >= _FEWEST_ON_BEAT else np.zeros(len(starts), np.bool_)
