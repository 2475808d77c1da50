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
from umbrick.core.survey.impulse_measures import NARROW_BELOW_RATE, measured, worth_a_look
from umbrick.core.survey.impulses import Impulses, impulses
from umbrick.core.survey.outline import Outline, outline
from umbrick.core.survey.residual import Residual
from umbrick.core.survey.voice_likeness import may_be_voice

Array = npt.NDArray[np.float64]


class Shape(IntEnum):
    """What an impulse is taken for."""

    CLICK = 0
    BREAK = 1
    MOUTH = 2


_WEIGHTS_OF = {
    # the log odds of a click, of a break and of a mouth click against natural sound: at a full band, at a telephone's
    "spike": (4.9, 3.7, 6.6, 5.4, 5.9, 4.9),
    "height against 10 ms": (0.05, 0.065, 0.007, 0.099, 0.032, 0.03),
    "height below -15 dB": (0.043, 0.072, 0.146, 0.051, 0.181, 0.049),
    "spike without ringing": (3.7, 4.2, -1.9, 5, 13, 7),
    "stands out": (0.207, 0.244, 0.078, 0.115, 0.2, 0.244),
    "stands out and is no kink": (0.354, -0.525, -0.007, 0.21, -0.64, 0.06),
    "stands out as a spike": (-0.04, -0.94, 1.8, 1, -0.37, 0.09),
    "brightness": (0.131, -0.087, 0.146, 0.041, -0.045, 0.101),
    "brightness around": (-0.059, 0.028, -0.017, -0.11, -0.005, -0.013),
    "change of what rings": (-0.191, -0.054, -0.146, -0.203, -0.009, -0.115),
    "stands out as nothing but a spike": (3.6, -0.2, -3.1, 0.2, 0.5, 0),
    "octaves of a millisecond": (-0.81, -0.57, -0.51, -0.14, -0.04, 0.05),
    "rings more than later": (-0.121, -0.025, 0.121, -0.03, -0.009, 0.044),
    "height below the sound as a spike": (8, -13, -10, 2, -9, 7),
    "stands out and is high": (0.023, 0.001, -0.02, 0.082, -0.011, 0.04),
    "height above the sound": (0.231, -0.151, -0.115, 0.173, -0.129, -0.139),
    "constant": (-6.94, -5.58, -5.06, -8.6, -7.09, -5.95),
}
_WEIGHTS, _NARROW_WEIGHTS = np.hsplit(np.array(list(_WEIGHTS_OF.values()), np.float64), 2)
_LEAST_CONFIDENCE = 0.05
_SPIKE = 0.9
_EDGE_SHARE = 0.12


class Event(NamedTuple):
    """An impulse in frames of the recording: how far it stands out in dB, its height relative to the sound around,
    and how sure it is of each :class:`Shape`, 0 to 1; what they leave is how likely it is natural."""

    start: int
    stop: int
    channel: int
    excess_db: float
    relative_db: float
    sure: tuple[float, float, float]


def events(block: Block) -> list[Event]:
    """Return the impulses of a block that may be damage, in every channel."""
    found = []
    for channel, (residual, all_impulses) in enumerate(block.shared(impulses)):
        rows = worth_a_look(all_impulses, residual, block.rate)
        if not len(rows):
            continue
        chosen = all_impulses.where(rows)
        seen = measured(residual, chosen, block.rate)
        sure = _sure(seen.columns, block.rate)
        for row in np.flatnonzero(sure.sum(axis=1) >= _LEAST_CONFIDENCE).tolist():
            start, stop = _extent(residual, chosen, row, bool(seen.spike[row] > _SPIKE))
            found.append(
                Event(
                    residual.first + start,
                    residual.first + stop,
                    channel,
                    float(seen.excess_db[row]),
                    float(seen.relative_db[row]),
                    (float(sure[row, 0]), float(sure[row, 1]), float(sure[row, 2])),
                )
            )
    return found


def _sure(columns: dict[str, Array], rate: int) -> Array:
    """Return how sure each impulse is of each shape, a row each; what is missing from 1 is how sure it is natural."""
    weights = _NARROW_WEIGHTS if rate < NARROW_BELOW_RATE else _WEIGHTS
    weighed = np.stack([columns[name] for name in _WEIGHTS_OF], axis=1) @ weights
    odds = np.exp(np.clip(weighed, -40, 40))
    return np.asarray(odds / (1 + odds.sum(axis=1, keepdims=True)))


def _extent(residual: Residual, found: Impulses, row: int, is_spike: bool) -> tuple[int, int]:
    """Return the first index of an impulse and that after its last: one, if a single wrong sample explains it."""
    peak, start, stop = int(found.peak[row]), int(found.start[row]), int(found.stop[row])
    if is_spike:
        return peak, peak + 1
    size = np.abs(residual.error[start:stop])
    loud = np.flatnonzero(size >= _EDGE_SHARE * size.max())
    return start + int(loud[0]), start + int(loud[-1]) + 1


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

    def feed(self, block: Block) -> None:
        """Collect a block's events."""
        self._events += block.shared(events)
        self._outlines.append(block.shared(outline))

    def _groups(self, shape: Shape) -> list[tuple[list[Event], Event, float]]:
        """Return the events that are likeliest of a shape, if they are damage: those in several channels at once as
        one group, the surest of them, and how sure it is that they are damage."""
        is_voice = may_be_voice(self._outlines)
        groups = []
        for group in together(self._events):
            best = max(group, key=lambda event: sum(event.sure))
            click, at_break, mouth = best.sure
            if not is_voice:  # Where there is no voice there is no mouth either: what rings is a click all the same.
                click, mouth = click + mouth, 0.0
            confidence = sum(best.sure)
            if confidence >= _LEAST_CONFIDENCE and int(np.argmax((click, at_break, mouth))) == shape:
                groups.append((group, best, confidence))
        return groups
