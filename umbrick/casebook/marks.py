"""What edits did to markers and notes, as JSON."""

from __future__ import annotations

import json
from dataclasses import astuple
from typing import Any

from umbrick.casebook.errors import DamagedCasebookError
from umbrick.casebook.limits import JSON_LIMIT, LONGEST_TEXT, loaded
from umbrick.core.timeline.marks import Marker, MarkerTurn, NoteTurn

_MARKER, _NOTE = "marker", "note"


def pack_marks(marks: tuple[MarkerTurn | NoteTurn, ...]) -> str:
    """Return marks as text."""
    return json.dumps([_packed(mark) for mark in marks])


def unpack_marks(text: str, frames: int) -> tuple[MarkerTurn | NoteTurn, ...]:
    """Return the marks of an edit on a recording of so many frames; DamagedCasebookError if they make no sense."""
    try:
        return tuple(_unpacked(row, frames) for row in loaded(text, list, JSON_LIMIT))
    except (TypeError, ValueError, AttributeError) as error:
        raise DamagedCasebookError("A marker makes no sense.") from error


def _packed(mark: MarkerTurn | NoteTurn) -> list[Any]:
    if isinstance(mark, NoteTurn):
        return [_NOTE, mark.finding_id, mark.before, mark.after]
    return [_MARKER, *(None if marker is None else astuple(marker) for marker in (mark.before, mark.after))]


def _unpacked(row: Any, frames: int) -> MarkerTurn | NoteTurn:
    kind, *values = row
    if kind == _NOTE:
        finding, before, after = (_text(value) for value in values)
        return NoteTurn(finding, before, after)
    if kind != _MARKER:
        raise ValueError(kind)
    before_row, after_row = values
    return MarkerTurn(_marker(before_row, frames), _marker(after_row, frames))


def _marker(row: Any, frames: int) -> Marker | None:
    if row is None:
        return None
    name, start, stop, title, note = row
    if not (type(start) is type(stop) is int and 0 <= start <= stop <= frames):
        raise ValueError(start)
    return Marker(_text(name), start, stop, _text(title), _text(note))


def _text(value: Any) -> str:
    if not isinstance(value, str) or len(value) > LONGEST_TEXT:
        raise TypeError(value)
    return value
