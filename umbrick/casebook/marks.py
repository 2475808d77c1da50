"""What edits did to markers, notes and the course, as JSON."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from dataclasses import astuple
from typing import Any

from umbrick.casebook.errors import DamagedCasebookError
from umbrick.casebook.limits import JSON_LIMIT, LONGEST_TEXT, loaded
from umbrick.casebook.steps import Profiles, pack_step, profile_key, profile_text, unpack_step
from umbrick.core.areas.area import Area
from umbrick.core.errors import ParameterError
from umbrick.core.timeline.marks import CourseTurn, Mark, Marker, MarkerTurn, NoteTurn, Standing, StandingTurn

_LONGEST_AREA = 1 << 20
_MARKER, _NOTE, _COURSE, STANDING = "marker", "note", "course", "standing"


def pack_marks(marks: tuple[Mark, ...]) -> str:
    """Return marks as text; the profiles of steps are named, and are to be written by :func:`write_profiles`."""
    return json.dumps([_packed(mark) for mark in marks])


def unpack_marks(text: str, frames: int, channels: int, profiles: Profiles) -> tuple[Mark, ...]:
    """Return the marks of an edit on a recording of so many frames; DamagedCasebookError if they make no sense."""
    try:
        return tuple(_unpacked(row, frames, channels, profiles) for row in loaded(text, list, JSON_LIMIT))
    except (TypeError, ValueError, AttributeError, KeyError, ParameterError) as error:
        raise DamagedCasebookError("A marker or a step of the course makes no sense.") from error


def write_profiles(connection: sqlite3.Connection, recording: int, marks: Iterable[Mark]) -> None:
    """Write what the steps of marks have learned, each once."""
    for mark in marks:
        for step in mark.after if isinstance(mark, CourseTurn) else ():
            if step.profile:
                row = recording, profile_key(step.profile), profile_text(step.profile)
                connection.execute("INSERT OR IGNORE INTO profiles VALUES (?, ?, ?)", row)


def _packed(mark: Mark) -> list[Any]:
    if isinstance(mark, NoteTurn):
        return [_NOTE, mark.finding_id, mark.before, mark.after]
    if isinstance(mark, StandingTurn):
        sides = mark.before, mark.after
        return [STANDING, *([dict(s.sensitivity), dict(s.preferred), _plain(s.adjusted)] for s in sides)]
    if isinstance(mark, CourseTurn):
        return [_COURSE, *([pack_step(step) for step in course] for course in (mark.before, mark.after))]
    return [_MARKER, *(None if marker is None else _row_of(marker) for marker in (mark.before, mark.after))]


def _unpacked(row: Any, frames: int, channels: int, profiles: Profiles) -> Mark:
    kind, *values = row
    if kind == _NOTE:
        finding, before, after = (_text(value) for value in values)
        return NoteTurn(finding, before, after)
    if kind == _COURSE:
        courses = [tuple(unpack_step(step, frames, channels, profiles) for step in course) for course in values]
        before_course, after_course = courses
        for course in courses:
            if len({step.id for step in course}) != len(course):
                raise ValueError(course)
        return CourseTurn(before_course, after_course)
    if kind == STANDING:
        before_standing, after_standing = (_standing(value) for value in values)
        return StandingTurn(before_standing, after_standing)
    if kind != _MARKER:
        raise ValueError(kind)
    before_row, after_row = values
    return MarkerTurn(_marker(before_row, frames), _marker(after_row, frames))


def _plain(adjusted: Mapping[str, Mapping[str, Any]]) -> dict[str, dict[str, Any]]:
    return {kind: dict(told) for kind, told in adjusted.items()}


def _standing(row: Any) -> Standing:
    sensitivity, preferred, adjusted = row
    if not all(isinstance(part, dict) for part in row):
        raise TypeError(row)
    if not all(isinstance(value, int | float) and 0 <= value <= 1 for value in sensitivity.values()):
        raise ValueError(sensitivity)
    if not all(isinstance(title, str) for title in preferred.values()):
        raise TypeError(preferred)
    if not all(isinstance(told, dict) for told in adjusted.values()):
        raise TypeError(adjusted)
    return Standing(sensitivity, preferred, adjusted)


def _marker(row: Any, frames: int) -> Marker | None:
    if row is None:
        return None
    name, start, stop, title, note, *area = row
    if area:
        written, harmonics = area
        if type(harmonics) is not int or len(written) > _LONGEST_AREA:
            raise ValueError(harmonics)
        Area.parsed(written, harmonics)
    if not (type(start) is type(stop) is int and 0 <= start <= stop <= frames):
        raise ValueError(start)
    return Marker(_text(name), start, stop, _text(title), _text(note), *area)


def _row_of(marker: Marker) -> list[Any]:
    """Return a marker as it is kept: markers without an area as they always were."""
    row = list(astuple(marker))
    return row if marker.area else row[:-2]


def _text(value: Any) -> str:
    if not isinstance(value, str) or len(value) > LONGEST_TEXT:
        raise TypeError(value)
    return value
