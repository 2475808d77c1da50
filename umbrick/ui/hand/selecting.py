"""Selecting to the sample: snapping, moving one edge in steps, typed values, and single channels."""

from __future__ import annotations

from enum import Enum
from typing import TypeVar

from PySide6.QtCore import QObject, Signal

from umbrick.core.errors import ParameterError
from umbrick.core.measure.crossings import Direction, nearest_crossing, next_crossing, next_cycle
from umbrick.core.units import channel_name, parse_frames
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.marking import Marking
from umbrick.work.work import Work

Member = TypeVar("Member", bound=Enum)

_SNAP_SECONDS = 0.02


class Snap(Enum):
    """What edges are drawn to; the values are the words in the status line."""

    OFF = "off"
    CROSSINGS = "zero crossings"
    MARKERS = "markers"


class Ruler(Enum):
    """What the Passage's ruler counts."""

    TIME = "time"
    SAMPLES = "samples"
    BEATS = "beats"


class Selecting(QObject):
    """Changes the selection; ``moves_start`` tells which of its edges the keys move."""

    changed = Signal()

    def __init__(self, bench: Bench, marking: Marking) -> None:
        super().__init__(bench)
        self._bench = bench
        self._marking = marking
        self.snap = Snap.OFF
        self.crossing = Direction.EITHER
        self.ruler = Ruler.TIME
        self.tempo = 96.0
        self.moves_start = False

    # What things snap to.

    def next_snap(self) -> None:
        """Go to the next of the three kinds of snapping."""
        self.snap = _next(self.snap)
        self.changed.emit()
        if self.snap is Snap.OFF:
            self._bench.said.emit("Snapping is off.")
        else:
            self._bench.said.emit(f"Edges snap to {self.snap.value}. Ctrl while dragging turns that off.")

    def restore(self, snap: str, ruler: str) -> None:
        """Snap to, and count in, what was chosen before; what is no such word is left as it is."""
        self.snap = next((kind for kind in Snap if kind.value == snap), self.snap)
        self.ruler = next((kind for kind in Ruler if kind.value == ruler), self.ruler)
        self.changed.emit()

    def next_crossing_kind(self) -> None:
        """Go to the next kind of zero crossing: either, rising, falling."""
        self.crossing = _next(self.crossing)
        self.changed.emit()
        self._bench.said.emit(f"Zero crossings: {self.crossing.value}.")

    def next_ruler(self) -> None:
        """Have the ruler count time, samples, or beats."""
        self.ruler = _next(self.ruler)
        self.changed.emit()
        self._bench.said.emit(f"The ruler shows {self.ruler.value}.")

    def set_tempo(self, tempo: float) -> None:
        """Set the beats a minute."""
        self.tempo = tempo
        self.changed.emit()

    def snapped(self, work: Work, frame: float, reach: float) -> float:
        """Return the place an edge at a frame is drawn to, within ``reach`` frames; itself if there is none."""
        if self.snap is Snap.MARKERS:
            near = [place for place in self._places(work) if abs(place - frame) <= reach]
            return min(near, key=lambda place: abs(place - frame)) if near else frame
        if self.snap is Snap.CROSSINGS and work.version.available == work.frames:
            reach = min(max(reach, 2.0), _SNAP_SECONDS * work.rate)
            found = nearest_crossing(work.version, work.channel, frame, reach, self.crossing)
            return frame if found is None else found
        return frame

    # The selection.

    def select_all(self) -> None:
        """Select the whole recording."""
        if work := self._bench.work:
            self._bench.select(0, work.frames)

    def type_in(self, start: str | None = None, stop: str | None = None, length: str | None = None) -> None:
        """Select by typed values; what is not given stays, and a length counts from the start.

        Raises
        ------
        ParameterError
            If a value is no time, or the span would not lie in the recording.
        """
        work = self._bench.work
        if work is None:
            return
        begin, end = work.selection.span if work.selection else (work.cursor, work.cursor)
        was = end - begin
        if start is not None:
            begin = self.frames_of(start)
            end = begin + was if was and stop is None and length is None else max(begin, end)
        if stop is not None:
            end = self.frames_of(stop)
        if length is not None:
            end = begin + self.frames_of(length)
        if not 0 <= begin <= end <= work.frames:
            raise ParameterError("That is not within the recording.")
        self._bench.select(begin, end)
        self._bench.set_cursor(begin)
        self._bench.set_passage(work.passage.showing(begin, end, work.frames))

    def frames_of(self, text: str) -> int:
        """Return the frames meant by a typed time; beats are those of the tempo."""
        work = self._bench.work
        return parse_frames(text, work.rate, self.tempo) if work else 0

    def next_channels(self) -> None:
        """Select on all channels, or on just one of them."""
        work = self._bench.work
        if work is None:
            return
        every = tuple(range(work.channels))
        steps = [every, *((channel,) for channel in every)]
        chosen = steps[(steps.index(work.selected_channels) + 1) % len(steps)]
        self._bench.select_channels(chosen)
        on = "all channels" if chosen == every else channel_name(chosen[0], work.channels)
        self._bench.said.emit(f"What is done by hand acts on {on}.")

    # One edge, by keys; without a selection, the cursor.

    def other_edge(self) -> None:
        """Have the keys move the other edge, and look at it."""
        self.moves_start = not self.moves_start
        if (work := self._bench.work) and work.selection:
            self._look_at(work, work.selection.start if self.moves_start else work.selection.stop)
        self.changed.emit()
        self._bench.said.emit(f"The keys move the {'start' if self.moves_start else 'end'} of the selection.")

    def step(self, frames: int) -> None:
        """Move the edge by samples."""
        if work := self._bench.work:
            self._move_to(work, self._edge(work) + frames)

    def cycle(self, step: int) -> None:
        """Move the edge by one cycle of the wave, on (1) or back (−1)."""
        if work := self._bench.work:
            found = next_cycle(work.version, work.channel, self._edge(work), step)
            self._move_to(work, found, "There is no more sound there.")

    def to_crossing(self, step: int) -> None:
        """Move the edge to the next zero crossing, on (1) or back (−1)."""
        if work := self._bench.work:
            found = next_crossing(work.version, work.channel, self._edge(work), step, self.crossing)
            self._move_to(work, found, "The wave does not cross zero within two seconds.")

    def to_mark(self, step: int) -> None:
        """Move the edge to the next marker, or to where a finding begins or ends."""
        work = self._bench.work
        if work is None:
            return
        edge = self._edge(work)
        beyond = [place for place in self._places(work) if (place > edge if step > 0 else place < edge)]
        nearest = (min if step > 0 else max)(beyond, default=None)
        self._move_to(work, nearest, "There is no marker and no finding in that direction.")

    def _edge(self, work: Work) -> int:
        if work.selection is None:
            return work.cursor
        return work.selection.start if self.moves_start else work.selection.stop

    def _move_to(self, work: Work, frame: int | None, otherwise: str = "") -> None:
        if frame is None:
            self._bench.said.emit(otherwise)
            return
        frame = min(max(0, frame), work.frames)
        if work.selection is None:
            self._bench.step_cursor(frame - work.cursor)
            return
        start, stop = work.selection.span
        fixed = stop if self.moves_start else start
        if frame == fixed:
            self._bench.said.emit("One sample stays selected; the other edge can be moved on (A).")
            return
        if (frame > fixed) == self.moves_start:
            self.moves_start = not self.moves_start
            self.changed.emit()
        self._bench.select(fixed, frame)
        self._look_at(work, frame)

    def _look_at(self, work: Work, frame: int) -> None:
        self._bench.set_loupe(work.loupe.centred(frame, work.frames))
        self._bench.set_passage(work.passage.showing(frame, frame, work.frames, margin=0.02))

    def _places(self, work: Work) -> list[int]:
        places = {frame for placed in self._marking.placed() for frame in (placed.start, placed.stop)}
        listing = work.listing()
        for column in (listing.table.starts, listing.table.stops):
            places.update(column[listing.rows].tolist())
        return sorted(places | {0, work.frames})


def _next(value: Member) -> Member:
    """Return the member of an enumeration after one, round at the end."""
    members = list(type(value))
    return members[(members.index(value) + 1) % len(members)]
