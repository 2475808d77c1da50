"""Markers and notes: setting, moving, naming, stepping, and taking them in and out as files."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from umbrick.core.areas.area import Area
from umbrick.core.errors import FileError, UmbrickError
from umbrick.core.marker_table import markers_from_csv, markers_to_csv
from umbrick.core.sound.cues import Cue, read_cues
from umbrick.core.sound.sound_file import checked_stamp
from umbrick.core.sound.whole_file import write_whole
from umbrick.core.survey.groups import together
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.marks import Marker, MarkerTurn, NoteTurn
from umbrick.core.timeline.positions import map_position, map_spans
from umbrick.core.units import format_count
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.ui.files.listing_out import label_of, shown
from umbrick.work.work import Work

_LARGEST_TABLE_BYTES = 32 * 2**20


class Marking(QObject):
    """What can be done with markers and notes; ``chosen`` is the id of the marker last set, clicked or stepped to."""

    changed = Signal()
    naming_wanted = Signal()
    """The person wants to name the chosen marker."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.chosen = ""
        bench.recording_changed.connect(lambda: self.choose(""))
        bench.edited.connect(self._forget_placed)
        self._placed: tuple[object, list[Placed]] | None = None

    def choose(self, name: str) -> None:
        """Choose a marker by its id, or none."""
        self.chosen = name
        self.changed.emit()

    def marker(self) -> Marker | None:
        """Return the chosen marker."""
        work = self._bench.work
        return next((m for m in work.history.markers if m.id == self.chosen), None) if work else None

    def placed(self) -> list[Placed]:
        """Return every marker with where it is in the version that is worked on, in order of place."""
        work = self._bench.work
        if work is None:
            return []
        key = (work, work.history.latest)
        if self._placed is None or self._placed[0] != key:
            self._placed = key, placed_markers(work)
        return self._placed[1]

    def set_marker(self, frame: int) -> None:
        """Set a marker on the selection, or on a frame where there is none."""
        work = self._bench.work
        if work is None:
            return
        start, stop = work.selection.span if work.selection else (frame, frame)
        number = next(_free_numbers(work))
        marker = Marker(f"k{number}", *_in_original(work, start, stop), f"Marker {number}")
        if self._commit(work, "set a marker", [MarkerTurn(None, marker)]):
            self.choose(marker.id)
            self._bench.said.emit(f"{marker.name} is set. Ctrl+T names it.")

    def keep_area(self, name: str) -> None:
        """Keep the selected area as a marker."""
        work = self._bench.work
        if work is None or work.area is None:
            return
        placed = work.area.placed(work.frames, work.rate)
        ends = _in_original(work, placed.start, placed.stop)
        number = next(_free_numbers(work))
        marker = Marker(f"k{number}", *ends, name, area=placed.area.text, harmonics=placed.area.harmonics)
        if self._commit(work, "keep an area", [MarkerTurn(None, marker)]):
            self.choose(marker.id)
            self._bench.said.emit(f"{name} is kept. Choose its marker and press Ctrl+Shift+M to have it again.")

    def kept_area(self) -> Area | None:
        """Return the area that the chosen marker keeps, where it is now."""
        chosen = next((p for p in self.placed() if p.marker.id == self.chosen), None)
        if chosen is None or not chosen.marker.area:
            return None
        return Area.parsed(chosen.marker.area, chosen.marker.harmonics).moved(chosen.start)

    def mark_findings(self) -> None:
        """Set a marker on every finding that the docket shows, one on those that belong together; markers go out as a
        table or as cue points."""
        work = self._bench.work
        if work is None:
            return
        numbers = _free_numbers(work)
        turns = [
            MarkerTurn(None, Marker(f"k{next(numbers)}", *_in_original(work, f.start, f.stop), label_of(f)))
            for f in together(shown(work), work.rate)
        ]
        if turns and self._commit(work, "mark the findings", turns):
            self._bench.said.emit(f"{format_count(len(turns), 'marker')} set. Undo takes them back.")

    def change(self, marker: Marker, name: str, note: str) -> None:
        """Give a marker another name and note."""
        if work := self._bench.work:
            self._commit(work, "name a marker", [MarkerTurn(marker, replace(marker, name=name, note=note))])

    def move(self, marker: Marker, start: int, stop: int) -> None:
        """Put a marker elsewhere; positions are those of the version that is worked on."""
        if work := self._bench.work:
            first, last = _in_original(work, start, stop)
            if (first, last) != (marker.start, marker.stop):
                self._commit(work, "move a marker", [MarkerTurn(marker, replace(marker, start=first, stop=last))])

    def delete(self) -> None:
        """Take the chosen marker away."""
        work, marker = self._bench.work, self.marker()
        if work and marker and self._commit(work, "delete a marker", [MarkerTurn(marker, None)]):
            self._bench.said.emit(f"{marker.name} is gone. Undo brings it back.")
            self.choose("")

    def step(self, step: int) -> None:
        """Go to the next (1) or previous (−1) marker."""
        work, placed = self._bench.work, self.placed()
        if work is None or not placed:
            return
        later = [p for p in placed if (p.start > work.cursor if step > 0 else p.start < work.cursor)]
        target = (later[0] if step > 0 else later[-1]) if later else placed[0 if step > 0 else -1]
        self._bench.set_cursor(target.start)
        self._bench.set_passage(work.passage.showing(target.start, target.stop, work.frames))
        self.choose(target.marker.id)
        self._bench.said.emit(" — ".join(filter(None, (target.marker.name, target.marker.note))))

    def note_of_focus(self) -> str:
        """Return the note on the finding in focus."""
        work = self._bench.work
        return work.history.notes.get(work.focus.id, "") if work and work.focus else ""

    def write_note(self, text: str) -> None:
        """Write a note on the finding in focus; an empty one takes it away."""
        work = self._bench.work
        if work and work.focus and (before := self.note_of_focus()) != text:
            self._commit(work, "write a note", [NoteTurn(work.focus.id, before, text)])

    def offer_cues(self, work: Work) -> None:
        """Offer the cue points of a newly opened file as markers; those taken in once are not offered again."""
        path = work.recording.path

        def found(cues: list[Cue]) -> None:
            if cues and work in self._bench.works:
                text = f"{work.home.name} has {format_count(len(cues), 'cue point')}."
                take = Choice("Take them in as markers", lambda: self.add(work, cues, path.name))
                self._bench.noticed.emit(Notice(text, (take,)))

        if not work.history.all_edits:
            self._bench.jobs.start(f"looking for cue points in {path.name}", lambda _: read_cues(path), found)

    def take_in(self, path: Path) -> None:
        """Take markers in from a table or from a WAV file's cue points."""
        work = self._bench.work
        if work is None:
            return
        rate, frames = work.rate, work.frames

        def read(_: Job) -> list[Cue]:
            return cues_of(path, rate, frames)

        self._bench.jobs.start(f"reading {path.name}", read, lambda cues: self.add(work, cues, path.name))

    def add(self, work: Work, cues: Sequence[Cue], origin: str) -> None:
        """Add markers, in frames of the version that is worked on; those that are there already are left out."""
        held = {(p.start, p.stop, p.marker.name) for p in placed_markers(work)}
        fresh = [
            cue for cue in cues
            if cue.start + cue.length <= work.frames and (cue.start, cue.start + cue.length, cue.name) not in held
        ]  # fmt: skip
        turns = []
        for cue, number in zip(fresh, _free_numbers(work), strict=False):
            place = _in_original(work, cue.start, cue.start + cue.length)
            turns.append(MarkerTurn(None, Marker(f"k{number}", *place, cue.name or f"Marker {number}", cue.note)))
        left_out = len(cues) - len(fresh)
        tail = f" {left_out} were there already, or lie outside." if left_out else ""
        if not turns:
            self._bench.said.emit(f"No new markers in {origin}.{tail}")
        elif self._commit(work, f"take in {format_count(len(turns), 'marker')}", turns):
            self._bench.said.emit(f"{format_count(len(turns), 'marker')} taken in from {origin}.{tail}")

    def write_table(self, path: Path) -> None:
        """Write all markers as a table."""
        work = self._bench.work
        if work is None:
            return
        text = markers_to_csv(cues_in(work), work.rate)
        self._bench.jobs.start(
            f"writing {path.name}",
            lambda _: write_whole(path, text.encode(), overwrite=True),
            lambda _: self._bench.said.emit(f"The markers are in {path.name}."),
        )

    def _commit(self, work: Work, title: str, turns: Sequence[MarkerTurn | NoteTurn]) -> bool:
        made = self._bench.commit(work, Edit(title, marks=tuple(turns)), work.version)
        self.changed.emit()
        return made is not None

    def _forget_placed(self) -> None:
        self._placed = None


class Placed:
    """A marker, and where it is in the version that is worked on."""

    def __init__(self, marker: Marker, start: int, stop: int) -> None:
        self.marker = marker
        self.start = start
        self.stop = stop


def placed_markers(work: Work) -> list[Placed]:
    """Return a recording's markers with where they are in its current version, in order of place."""
    markers = work.history.markers
    spans = map_spans(work.history.original, work.version, [(marker.start, marker.stop) for marker in markers])
    placed = [Placed(marker, *span) for marker, span in zip(markers, spans, strict=True)]
    return sorted(placed, key=lambda p: (p.start, p.stop))


def cues_in(work: Work) -> list[Cue]:
    """Return a recording's markers as cue points of its current version."""
    return [Cue(p.start, p.stop - p.start, p.marker.name, p.marker.note) for p in placed_markers(work)]


def cues_of(path: Path, rate: int, frames: int) -> list[Cue]:
    """Return the markers of a table or of a WAV file.

    Raises
    ------
    UmbrickError
        If it cannot be read, or holds none.
    """
    if path.suffix.lower() == ".csv":
        try:
            if checked_stamp(path).size > _LARGEST_TABLE_BYTES:
                raise FileError(f"{path.name} is too large to be a table of markers.")
            return markers_from_csv(path.read_text("utf-8", "replace"), rate, frames)
        except OSError as error:
            raise FileError(f"{path.name} cannot be read: {error.strerror}.") from error
    checked_stamp(path)
    cues = read_cues(path)
    if not cues:
        raise UmbrickError(f"{path.name} holds no cue points.", "Markers come from CSV tables and WAV files.")
    return cues


def _free_numbers(work: Work) -> Iterator[int]:
    """Yield numbers for new markers."""
    taken = {marker.id for marker in work.history.markers}
    return (number for number in itertools.count(1) if f"k{number}" not in taken)


def _in_original(work: Work, start: int, stop: int) -> tuple[int, int]:
    original = work.history.original
    first, last = (map_position(work.version, original, frame) for frame in (start, stop))
    return first, max(first, last)
