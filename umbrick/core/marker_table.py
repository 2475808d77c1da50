"""Markers as a table in CSV: frames for programs, clock times for people."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable

from umbrick.core.csv_table import csv_text, unguarded
from umbrick.core.errors import ParameterError
from umbrick.core.sound.cues import Cue
from umbrick.core.units import format_clock, parse_frames

COLUMNS = ("name", "start_frame", "end_frame", "start", "end", "note")
_LONGEST_ROW = 1 << 16


def markers_to_csv(cues: Iterable[Cue], rate: int) -> str:
    """Return markers as CSV text, with a heading row; ``end`` is empty for a place."""
    return csv_text([COLUMNS, *(_row(cue, rate) for cue in cues)])


def markers_from_csv(text: str, rate: int, frames: int) -> list[Cue]:
    """Return the markers of a table.

    A heading row names the columns. Frames are taken where they are given, else the clock times; a table without
    ``start_frame`` and ``end_frame`` is as good.

    Parameters
    ----------
    text : str
    rate : int
        Frames a second of the recording they are for.
    frames : int
        Its length.

    Raises
    ------
    ParameterError
        If a row has no usable place; it names the row.
    """
    csv.field_size_limit(_LONGEST_ROW)
    reader = csv.DictReader(io.StringIO(text.lstrip("\ufeff")), skipinitialspace=True)
    found = []
    try:
        if not {"start", "start_frame"} & set(reader.fieldnames or ()):
            raise ParameterError("The table has no column “start” or “start_frame”.", f"Columns: {', '.join(COLUMNS)}.")
        for number, row in enumerate(reader, 2):
            try:
                start = _place(row, "start", rate)
                stop = _place(row, "end", rate)
            except ParameterError as error:
                raise ParameterError(f"Row {number}: {error}") from error
            if (
                start is None
                or not 0 <= start <= frames
                or not start <= (stop if stop is not None else start) <= frames
            ):
                raise ParameterError(f"Row {number} is not a place in the recording.")
            name = unguarded(row.get("name") or "").strip()
            found.append(Cue(start, (stop or start) - start, name, unguarded(row.get("note") or "").strip()))
    except csv.Error as error:
        raise ParameterError(f"The table cannot be read: {error}.") from error
    return sorted(found)


def _row(cue: Cue, rate: int) -> tuple[object, ...]:
    stop = cue.start + cue.length if cue.length else None
    return (
        cue.name,
        cue.start,
        "" if stop is None else stop,
        format_clock(cue.start, rate),
        "" if stop is None else format_clock(stop, rate),
        cue.note,
    )


def _place(row: dict[str, str], name: str, rate: int) -> int | None:
    exact = (row.get(f"{name}_frame") or "").strip()
    clock = (row.get(name) or "").strip()
    return parse_frames(exact or clock, rate) if exact or clock else None
