"""What kind of damage an impulse is, if it is any: a click, a break in the wave, or a click of the mouth.

A wrong sample or a tick lies *on* the sound: what linear prediction leaves of it is the filter's answer to a few
samples, and it may be higher than the sound itself. At a break the wave goes on from another place: what is left is
the filter's answer to a step and a kink, never higher than the sound's own swing. A click of the mouth is the kink
with which a resonance begins that rings for some milliseconds. An attack or a consonant is as bright as what is around
it, or changes what rings.

The four are weighed by a multinomial logistic regression on what is found in clean speech and music, at several speeds,
and in the same with faults planted; its weights, rounded, are below.
"""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block, Format
from umbrick.core.survey.impulses.both_sides import is_another_sound
from umbrick.core.survey.impulses.impulse_measures import NARROW_BELOW_RATE, measured, worth_a_look
from umbrick.core.survey.impulses.impulses import Impulses, impulses
from umbrick.core.survey.impulses.onset import begins_a_sound
from umbrick.core.survey.impulses.pulses import comes_again
from umbrick.core.survey.impulses.residual import Residual
from umbrick.core.survey.levels.outline import Outline, outline
from umbrick.core.survey.levels.voice_likeness import may_be_voice
from umbrick.core.survey.tones.keyed import is_keyed

Array = npt.NDArray[np.float64]


class Shape(IntEnum):
    """What an impulse is taken for."""

    CLICK = 0
    BREAK = 1
    MOUTH = 2


_WEIGHTS_OF = {
    # the log odds of a click, of a break and of a mouth click against natural sound: at a full band, at a telephone's
    "spike": (-5.97, 8.42, 13.6, -8.24, 1.68, 5.11),
    "left by a single wrong sample": (-0.877, 0.199, -0.0727, -1.19, -0.402, -0.423),
    "left by a few wrong samples": (-0.35, -0.159, -0.232, -0.442, -0.154, -0.359),
    "height against 10 ms": (0.197, 0.226, 0.0988, 0.414, 0.307, 0.328),
    "height below -15 dB": (0.197, -0.047, 0.622, 0.0971, 0.0425, 0.0242),
    "spike without ringing": (3.44, 6.83, -0.00929, -9.76, -2.59, -6.08),
    "stands out": (0.36, 0.438, 0.2, 0.0574, 0.341, 0.125),
    "stands out and is no kink": (0.388, -1.09, 0.43, 0.583, -0.997, 0.419),
    "stands out as a spike": (-1.51, -0.568, 2.43, 0.739, -0.0295, 2.54),
    "brightness": (0.158, -0.196, 0.209, 0.0358, -0.0862, 0.272),
    "brightness around": (-0.106, 0.0613, -0.0282, -0.205, -0.049, -0.087),
    "change of what rings": (-0.313, -0.15, -0.266, -0.27, -0.0471, -0.195),
    "stands out as nothing but a spike": (1.67, 1.54, -3.22, -0.675, -0.268, 1.15),
    "octaves of a millisecond": (-0.0775, -0.271, -0.408, 0.147, -0.0358, -0.177),
    "rings more than later": (-0.181, -0.0984, 0.0814, -0.106, -0.0812, 0.0394),
    "height below the sound as a spike": (33.7, -22.1, -15.0, 118, -60.9, -61.1),
    "stands out and is high": (0.0159, 0.0213, -0.037, 0.00872, 0.00377, 0.00768),
    "height above the sound": (0.0853, -0.458, -0.259, 0.061, -0.443, -0.532),
    "constant": (-8.7, -7.93, -12.2, -12.5, -8.66, -10.5),
}
_WEIGHTS, _NARROW_WEIGHTS = np.hsplit(np.array(list(_WEIGHTS_OF.values()), np.float64), 2)
_LEAST_CONFIDENCE = 0.05
_SPIKE, _NOTHING_BUT_A_SPIKE = 0.9, 0.99
"""Shares of what is left that a single wrong sample explains: from the one on it is taken for one, from the other on
nothing else is thought of."""

_DOUBT_DB = 1.0
_HALF_BROKEN_DB, _HALF_BROKEN_NARROW_DB = 16.0, 7.0
"""A voice's pulses and the joins of a speech synthesizer stand out by less, what is missing by more."""

_FAINTEST_NARROW_CLICK_DB = 6.0
"""In a telephone's band an attack leaves as much in a single sample."""

_HALF_SMACK_DB, _HALF_SMACK_NARROW_DB, _HALF_LONG_DB = 10.0, 6.0, 17.0
_LONG_SECONDS = 0.0018
"""A voice's pulses stand out by less than its smacks; and what is as long as a spark or a grain must do so by more."""

_ROW_SECONDS, _MOST_IN_A_ROW = 0.12, {Shape.MOUTH: 3, Shape.BREAK: 6}
"""No mouth smacks, and no line breaks, so often: where more impulses are within that time before and after, something
croaks, creaks or rattles."""

_HIGHEST_STROKE_DB, _STROKES_SECONDS = 8.0, 15.0
_USUAL_STROKES, _FEWEST_STROKES = 0.5, 5
"""What is higher over the sound around it than the stroke of a note is damage even where one begins; so is what is
among more impulses nearby that are no strokes. Where there are several strokes and fewer others, those are some too."""

_FAINTEST_DB = -36.0
"""So far below the sound lies the corner at which a fade begins."""

_MOST_IF_ANOTHER, _LEAST_OF_A_BREAK = 0.4, 0.05
_EDGE_SHARE = 0.12
_APART_SECONDS, _BESIDE_SECONDS = 0.001, 0.006
_RESTS = 4
_SILENCE, _GOES_ON = 10 ** (-50 / 20), 0.02


class Event(NamedTuple):
    """An impulse in frames of the recording: how far it stands out in dB, its height relative to the sound around,
    and how sure it is of each :class:`Shape`, 0 to 1; what they leave is how likely it is natural."""

    start: int
    stop: int
    channel: int
    excess_db: float
    relative_db: float
    sure: tuple[float, float, float]
    left: float
    """The share that is left of it where the sound on both sides, or how little it stands out, speaks against it."""

    is_stroke: bool
    """Whether a sound of its own begins with it, as with the stroke of a note."""

    is_pulse: bool
    """Whether it would be a smack, but comes again in its shape, as the pulses of a voice do."""

    @property
    def confidence(self) -> float:
        """How sure it is that it is damage of any shape."""
        return sum(self.sure) * self.left

    @property
    def may_be_break(self) -> bool:
        """Whether it may be a break in the wave, whatever it is rather."""
        return self.sure[Shape.BREAK] >= _LEAST_OF_A_BREAK


def events(block: Block) -> list[Event]:
    """Return the impulses of a block that may be damage, in every channel."""
    found = []
    first_read = block.start - block.before
    after_read = first_read + len(block.samples)
    for channel, (residual, all_impulses) in enumerate(block.shared(impulses)):
        rows = worth_a_look(all_impulses, residual, block.rate)
        if not len(rows):
            continue
        chosen = all_impulses.where(rows)
        seen = measured(residual, chosen, block.rate)
        sure = _sure(seen.columns, block.rate)
        skipped = max(0, first_read - residual.first)
        known = residual.wave[skipped : after_read - residual.first]
        for row in np.flatnonzero(sure.sum(axis=1) >= _LEAST_CONFIDENCE).tolist():
            start, stop = _extent(residual, chosen, row, bool(seen.spike[row] > _SPIKE))
            at = start - skipped, stop - skipped
            if _is_an_end(known, *at, block.rate) or _is_a_coarse_step(known, *at) or _is_keyed(known, *at, block.rate):
                continue
            shape = Shape(int(np.argmax(sure[row])))
            may_be_stroke = shape != Shape.BREAK and seen.relative_db[row] < _HIGHEST_STROKE_DB
            found.append(
                Event(
                    # At its ends the residual goes on over sound made up beyond the recording.
                    max(residual.first + start, first_read),
                    min(residual.first + stop, after_read),
                    channel,
                    float(seen.excess_db[row]),
                    float(seen.relative_db[row]),
                    (float(sure[row, 0]), float(sure[row, 1]), float(sure[row, 2])),
                    _left(shape, seen.excess_db[row], seen.relative_db[row], known, at, block.rate),
                    may_be_stroke and begins_a_sound(known, *at, block.rate),
                    shape == Shape.MOUTH and comes_again(known, at[0], block.rate),
                )
            )
    return found


def _left(
    shape: Shape, excess_db: float, relative_db: float, wave: npt.NDArray[np.float32], at: tuple[int, int], rate: int
) -> float:
    """Return how much is left of how sure an impulse is, if it is faint or hardly stands out for one of its shape, or
    if it lies where another sound begins."""
    share = _as_its_shape(shape, excess_db, wave, at, rate)
    return min(share, _MOST_IF_ANOTHER) if relative_db < _FAINTEST_DB else share


def _as_its_shape(
    shape: Shape, excess_db: float, wave: npt.NDArray[np.float32], at: tuple[int, int], rate: int
) -> float:
    """Return how much is left of an impulse by how far it stands out and what is on both sides."""
    is_narrow = rate < NARROW_BELOW_RATE
    if shape == Shape.CLICK:
        if is_narrow:
            return _MOST_IF_ANOTHER if excess_db < _FAINTEST_NARROW_CLICK_DB else 1.0
        return _over(excess_db, _HALF_LONG_DB) if at[1] - at[0] >= _LONG_SECONDS * rate else 1.0
    if shape == Shape.MOUTH:
        share = _over(excess_db, _HALF_SMACK_NARROW_DB if is_narrow else _HALF_SMACK_DB)
        return min(share, _MOST_IF_ANOTHER) if is_another_sound(wave, *at, rate, alike_loud=True) else share
    share = _over(excess_db, _HALF_BROKEN_NARROW_DB if is_narrow else _HALF_BROKEN_DB)
    return min(share, _MOST_IF_ANOTHER) if is_another_sound(wave, *at, rate) else share


def _over(excess_db: float, half_sure_db: float) -> float:
    return float(1 / (1 + np.exp((half_sure_db - excess_db) / _DOUBT_DB)))


def _sure(columns: dict[str, Array], rate: int) -> Array:
    """Return how sure each impulse is of each shape, a row each; what is missing from 1 is how sure it is natural."""
    weights = _NARROW_WEIGHTS if rate < NARROW_BELOW_RATE else _WEIGHTS
    weighed = np.stack([columns[name] for name in _WEIGHTS_OF], axis=1) @ weights
    odds = np.exp(np.clip(weighed, -40, 40))
    sure = np.asarray(odds / (1 + odds.sum(axis=1, keepdims=True)))
    is_sample = columns["spike"] > _NOTHING_BUT_A_SPIKE
    sure[is_sample] = sure[is_sample].sum(axis=1, keepdims=True) * np.eye(len(Shape))[Shape.CLICK]
    return sure


def _extent(residual: Residual, found: Impulses, row: int, is_spike: bool) -> tuple[int, int]:
    """Return the first index of an impulse and that after its last: one, if a single wrong sample explains it."""
    peak, start, stop = int(found.peak[row]), int(found.start[row]), int(found.stop[row])
    if is_spike:
        return peak, peak + 1
    size = np.abs(residual.error[start:stop])
    loud = np.flatnonzero(size >= _EDGE_SHARE * size.max())
    return start + int(loud[0]), start + int(loud[-1]) + 1


def _is_an_end(wave: npt.NDArray[np.float32], start: int, stop: int, rate: int) -> bool:
    """Whether sound begins or ends there: on one side there is silence, on the other what goes on with it."""
    apart, beside = round(_APART_SECONDS * rate), round(_BESIDE_SECONDS * rate)
    if start < beside or stop + beside > len(wave):
        return False
    sides = wave[start - beside : start - apart], wave[stop + apart : stop + beside]
    faint, loud = sorted(float(np.abs(side).max(initial=0.0)) for side in sides)
    return faint <= _SILENCE * loud and loud > _GOES_ON * float(np.abs(wave[start:stop]).max())


def _is_keyed(wave: npt.NDArray[np.float32], start: int, stop: int, rate: int) -> bool:
    """Whether a sine is switched to another there."""
    beside = round(_BESIDE_SECONDS * rate)
    return is_keyed(wave[max(0, start - beside) : stop + beside], rate)


def _is_a_coarse_step(wave: npt.NDArray[np.float32], start: int, stop: int) -> bool:
    """Whether a slow wave rests on one value before it and on another after it: that is how coarse values follow it."""
    if start < _RESTS or stop + _RESTS > len(wave):
        return False
    before, after = wave[start - _RESTS : start], wave[stop : stop + _RESTS]
    return bool(before[0] != after[0] and (before == before[0]).all() and (after == after[0]).all())


def together(found: list[Event]) -> list[list[Event]]:
    """Return events in order of time, those that overlap in several channels as one group."""
    groups: list[list[Event]] = []
    reach = -1
    for event in sorted(found):
        if event.start < reach:
            groups[-1].append(event)
            reach = max(reach, event.stop)
        else:
            groups.append([event])
            reach = event.stop
    return groups


class EventCollector:
    """Collects the events of all blocks, for the detectors that each take some of them for theirs."""

    needs = (events, outline)

    def __init__(self, form: Format) -> None:
        self._format = form
        self._events: list[Event] = []
        self._outlines: list[Outline] = []
        self._heard = 0

    def feed(self, block: Block) -> None:
        """Collect a block's events."""
        self._heard = block.stop
        self._events += block.shared(events)
        self._outlines.append(block.shared(outline))

    def _groups(self, shape: Shape) -> list[tuple[list[Event], Event, float]]:
        """Return the events that are likeliest of a shape, if they are damage: those in several channels at once as
        one group, the surest of them, and how sure it is that they are damage."""
        is_voice = may_be_voice(self._outlines)
        groups = []
        strokes, starts = self._strokes(), np.sort([event.start for event in self._events])
        for group in together(self._events):
            best = max(group, key=lambda event: event.confidence)
            click, at_break, mouth = best.sure
            if not is_voice:  # Where there is no voice there is no mouth either: what rings is a click all the same.
                click, mouth = click + mouth, 0.0
            if int(np.argmax((click, at_break, mouth))) != shape:
                continue
            # A tick on a tone looks as if it came again, for the tone does.
            is_doubtful = (
                best in strokes or self._is_in_a_row(best.start, starts, shape) or (is_voice and best.is_pulse)
            )
            confidence = min(best.confidence, _MOST_IF_ANOTHER) if is_doubtful else best.confidence
            if confidence >= _LEAST_CONFIDENCE:
                groups.append((group, best, confidence))
        return groups

    def _is_in_a_row(self, start: int, starts: npt.NDArray[np.int64], shape: Shape) -> bool:
        reach = round(_ROW_SECONDS * self._format.rate)
        first, stop = np.searchsorted(starts, (start - reach, start + reach))
        return bool(stop - first > _MOST_IN_A_ROW.get(shape, len(starts)))

    def _strokes(self) -> set[Event]:
        """Return the events that are strokes: where a sound begins with at least half of those around that stand out,
        breaks left aside. A click that comes with one note is among others that do not."""
        likely = [event for event in self._events if event.confidence > _MOST_IF_ANOTHER]
        likely = [event for event in likely if int(np.argmax(event.sure)) != Shape.BREAK]
        is_stroke = np.array([event.is_stroke for event in likely], np.bool_)
        starts = np.array([event.start for event in likely], np.int64)
        order = np.argsort(starts, kind="stable")
        counted = np.concatenate([[0], np.cumsum(is_stroke[order])])
        reach = round(_STROKES_SECONDS * self._format.rate)
        first, last = (np.searchsorted(starts[order], starts + side * reach, side="right") for side in (-1, 1))
        share = (counted[last] - counted[first]) / np.maximum(1, last - first)
        is_high = np.array([event.relative_db >= _HIGHEST_STROKE_DB for event in likely], np.bool_)
        is_one = is_stroke | ((last - first >= _FEWEST_STROKES) & ~is_high)
        chosen = is_one & (share >= _USUAL_STROKES)
        return {event for event, one in zip(likely, chosen, strict=True) if one}
