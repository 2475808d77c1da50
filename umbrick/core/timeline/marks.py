"""What edits do besides changing pieces: to markers, notes, and the course that is laid over a recording."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from umbrick.core.course.step import Course


@dataclass(frozen=True, slots=True)
class Marker:
    """A named place or span, in frames of the original recording: it stays with its sound whatever is edited.

    ``stop`` equals ``start`` for a place. ``id`` is unique within the recording. ``area`` is what of it is meant in
    time and frequency, as :class:`umbrick.core.areas.area.Area` writes it, counted from ``start``; ``harmonics`` at how
    many multiples of its frequencies.
    """

    id: str
    start: int
    stop: int
    name: str
    note: str = ""
    area: str = ""
    harmonics: int = 1


@dataclass(frozen=True, slots=True)
class MarkerTurn:
    """What an edit does to one marker; None where there is none before, or after."""

    before: Marker | None
    after: Marker | None


@dataclass(frozen=True, slots=True)
class NoteTurn:
    """What an edit does to the note on a finding; empty where there is none before, or after."""

    finding_id: str
    before: str
    after: str


@dataclass(frozen=True, slots=True)
class CourseTurn:
    """What an edit does to the course."""

    before: Course
    after: Course


@dataclass(frozen=True, slots=True)
class Standing:
    """What a person has settled for kinds of finding, from then on and for all of a recording.

    ``sensitivity`` runs from 0 to 1; ``preferred`` gives the title of the mend that comes first; ``adjusted`` the
    settings that were changed last, as plain values.
    """

    sensitivity: Mapping[str, float] = field(default_factory=dict)
    preferred: Mapping[str, str] = field(default_factory=dict)
    adjusted: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class StandingTurn:
    """What an edit does to what is settled for kinds of finding."""

    before: Standing
    after: Standing


Mark = MarkerTurn | NoteTurn | CourseTurn | StandingTurn
