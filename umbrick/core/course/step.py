"""A step of the course: which treatment, with what settings, where, and what was learned for it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from umbrick.core.course.treatment import AMOUNT, RAMP_MS, Profile, Treatment
from umbrick.core.mend.method import Method
from umbrick.core.mend.registry import method_named

Spans = tuple[tuple[int, int], ...]


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
    def kind(self) -> Method:
        """The method that it is made by; ParameterError if this program has none of that name."""
        return method_named(self.method)

    @property
    def treatment(self) -> Treatment:
        """How it treats sound."""
        does = self.kind.does
        assert isinstance(does, Treatment)
        return does

    @property
    def amount(self) -> float:
        """How much of it is done, from 0 to 1."""
        return float(self.settings[AMOUNT])

    def ramp_frames(self, rate: int) -> int:
        """Return how many frames it takes to come and go at the edges of its spans."""
        return round(float(self.settings[RAMP_MS]) * rate / 1000)

    @property
    def acts(self) -> bool:
        """Whether it changes anything at all."""
        wanted = self.is_on and self.amount > 0 and self.spans != ()
        return wanted and not self.treatment.changes_nothing(self.settings, self.profile)

    @property
    def sound_key(self) -> str:
        """A name for what it does to sound wherever it acts."""
        told = [self.method, self.treatment.version, self.settings, self.profile, self.channels]
        return hashlib.blake2b(json.dumps(told, sort_keys=True).encode(), digest_size=16).hexdigest()


Course = tuple[Step, ...]
"""Steps in the order in which sound goes through them."""


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
