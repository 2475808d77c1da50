"""A step of the course: which treatment, with what settings, where, and what was learned for it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from umbrick.core.units import format_clock, format_count, format_length

Spans = tuple[tuple[int, int], ...]

Profile = Mapping[str, Any]
"""What was learned from a recording: small, and nothing but what JSON holds."""

RAMP_MS, AMOUNT, STRENGTH, WITHIN_HZ = "ramp_ms", "amount", "strength", "within_hz"
"""Settings that every step has."""


@dataclass(frozen=True, slots=True)
class Step:
    """One treatment laid over a recording; ``id`` is unique within it.

    ``spans`` are in frames of the original, like markers, in order and apart; None means all of it. ``where`` says in
    words what chose them, if not a person's hand. ``learned_from`` names the sound that ``profile`` was learned from,
    ``algorithm`` is the treatment's version that the step was made with.
    """

    id: str
    method: str
    settings: dict[str, Any]
    channels: tuple[int, ...]
    spans: Spans | None = None
    where: str = ""
    is_on: bool = True
    profile: Profile = field(default_factory=dict)
    learned_from: str = ""
    algorithm: int = 1

    @property
    def amount(self) -> float:
        """How much of it is done, from 0 to 1."""
        return float(self.settings[AMOUNT])

    def ramp_frames(self, rate: int) -> int:
        """Return how many frames it takes to come and go at the edges of its spans."""
        return round(float(self.settings[RAMP_MS]) * rate / 1000)


@dataclass(frozen=True, slots=True)
class Settled:
    """A stretch, in frames of the original, that some steps have been settled in: they act there no more."""

    start: int
    stop: int
    steps: tuple[str, ...]


Course = tuple[Step, ...]
"""Steps in the order in which sound goes through them."""


def where_told(step: Step, rate: int) -> str:
    """Return in words where a step acts."""
    if step.spans is None:
        return "all of it"
    if step.where or len(step.spans) != 1:
        places = format_count(len(step.spans), "place")
        return f"{step.where}: {places}" if step.where else places
    start, stop = step.spans[0]
    return f"{format_clock(start, rate)}, {format_length(stop - start, rate)}"


def free_id(course: Iterable[Step]) -> str:
    """Return an id that no step of a course has."""
    taken = [int(step.id[1:]) for step in course if step.id[1:].isdigit()]
    return f"s{max(taken, default=0) + 1}"


def merged(spans: Iterable[tuple[int, int]]) -> Spans:
    """Return spans in order, those that touch or overlap as one, empty ones left out."""
    made: list[tuple[int, int]] = []
    for start, stop in sorted(spans):
        if stop <= start:
            continue
        if made and start <= made[-1][1]:
            made[-1] = made[-1][0], max(made[-1][1], stop)
        else:
            made.append((start, stop))
    return tuple(made)


def without(spans: Spans, spared: Spans) -> Spans:
    """Return spans, in order and apart, without the parts of them that others cover."""
    left: list[tuple[int, int]] = []
    for start, stop in spans:
        at = start
        for begin, end in spared:
            if end > at and begin < stop:
                left.append((at, begin))
                at = end
        left.append((at, stop))
    return tuple((start, stop) for start, stop in left if start < stop)
