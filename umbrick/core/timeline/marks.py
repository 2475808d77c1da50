"""Markers and notes: what a person writes on a recording."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Marker:
    """A named place or span, in frames of the original recording: it stays with its sound whatever is edited.

    ``stop`` equals ``start`` for a place. ``id`` is unique within the recording.
    """

    id: str
    start: int
    stop: int
    name: str
    note: str = ""


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
