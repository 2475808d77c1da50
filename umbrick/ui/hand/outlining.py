"""Selecting in time and frequency: drawing areas, gathering them, hearing them, and finding more like them."""

from __future__ import annotations

from dataclasses import replace
from enum import Enum

import numpy as np

from umbrick.core.areas.alike import Alike, places_alike
from umbrick.core.areas.area import Area, Join
from umbrick.core.areas.gather import Gathering
from umbrick.core.areas.harmonics import sounding_harmonics
from umbrick.core.areas.placed import PlacedArea, gathered_at
from umbrick.core.areas.shapes import Shape
from umbrick.core.areas.treating import CONTEXT_SECONDS, SILENCED_DB, Treating, treated
from umbrick.core.mend.areas.area import settings_of
from umbrick.core.mend.place import Place
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock, format_count, format_length
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.listening import Excerpts, Listening
from umbrick.ui.bench.mending import Mending
from umbrick.ui.bench.surveying import Surveying
from umbrick.ui.bench.task import Task
from umbrick.ui.hand.handwork import Handwork
from umbrick.work.work import Work

_TOLERANCE_STEP_DB, _TOLERANCES_DB = 4.0, (8.0, 48.0)
_LEAST_SECONDS, _LEAST_HZ = 0.002, 5.0


class Pen(Enum):
    """What a drag in the spectrogram draws."""

    NONE = "a selection in time"
    BOX = "boxes"
    OUTLINE = "outlines"
    BRUSH = "strokes"
    GATHER = "what a click gathers"


class Ear(Enum):
    """What of an area is heard."""

    ALONE = "the area alone"
    WITHOUT = "everything but the area"


class Outlining(Task):
    """Holds the pen and changes the area that is selected."""

    def __init__(
        self, bench: Bench, mending: Mending, listening: Listening, surveying: Surveying, handwork: Handwork
    ) -> None:
        super().__init__(bench)
        self._mending = mending
        self._listening = listening
        self._surveying = surveying
        self._handwork = handwork
        self.pen = Pen.NONE
        self.brush_ms, self.brush_hz = 40.0, 200.0
        self.gathering = Gathering()
        self.ear: Ear | None = None
        self._began: tuple[int, float] | None = None
        """Where the area was gathered from last: the frame and the frequency."""
        bench.recording_changed.connect(self.stop_hearing)
        bench.place_changed.connect(self._place_changed)
        bench.edited.connect(self._edited)

    # What holds.

    def reason_against(self) -> str:
        """Return why nothing can be done with an area now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        return "" if work.area is not None else "Select an area first: double-click in the spectrogram (V shows it)."

    def reason_against_more(self) -> str:
        """Return why nothing more like the area can be listed now, or nothing."""
        if reason := self.reason_against():
            return reason
        assert self._bench.work is not None
        return (
            "" if self._bench.work.survey is not None else "Survey first (F5): what is found is listed with the rest."
        )

    def set_pen(self, pen: Pen) -> None:
        """Take a pen, or put it down if it is that one already."""
        self.pen = Pen.NONE if pen is self.pen else pen
        self._bench.said.emit(f"A drag in the spectrogram makes {self.pen.value}.")
        self.changed.emit()

    # Making the area.

    def draw(self, shape: Shape, join: Join = Join.ADD) -> None:
        """Have a shape, its frames counted from the version's start, be the area, or be joined to the one there is."""
        work = self._bench.work
        if work is None:
            return
        start, stop, low, high = shape.extent
        if stop - start < _LEAST_SECONDS * work.rate or high - low < _LEAST_HZ:
            self._bench.said.emit("That is too small for an area.")
            return
        self.select(Area.of(shape) if work.area is None else work.area.area.joined(join, shape))

    def select(self, area: Area) -> None:
        """Select an area, and have mends offered for it."""
        self._bench.select_area(area)
        if self._bench.work and self._bench.work.area is not None:
            self._mending.offer_for_area()
        else:
            self._bench.said.emit("Nothing is left of the area.")
        self.changed.emit()

    def clear(self) -> None:
        """Select no area."""
        self._bench.select_area(None)
        self.changed.emit()

    def gather(self, frame: int, hz: float, channel: int, join: Join | None = None) -> None:
        """Select what goes on like a place in time and frequency, or join it to the area."""
        work = self._bench.work
        if work is None:
            return
        self._began = frame, hz
        version, gathering = work.outcome, self.gathering
        view = (int(work.passage.start), int(work.passage.stop)) if gathering.everywhere else None

        def found(placed: PlacedArea | None) -> None:
            if work is not self._bench.work:
                return
            if placed is None:
                self._bench.said.emit("Nothing stands out there: click on what is to be gathered.")
                return
            area = placed.area.moved(placed.start)
            before = work.area.area if work.area is not None else None
            if join is not None and before is not None:
                for _, shape in area.parts:
                    before = before.joined(join, shape)
                area = before
            self.select(area)

        self._run("Gathering", lambda _: gathered_at(version, channel, frame, hz, gathering, view), found, "")

    def gather_anew(self, by_db: float = 0.0, **other: bool) -> None:
        """Gather again from where it was begun, with more or less tolerance, or otherwise."""
        low, high = _TOLERANCES_DB
        tolerance_db = min(max(low, self.gathering.tolerance_db + by_db), high)
        self.gathering = replace(self.gathering, tolerance_db=tolerance_db, **other)
        where = "everywhere in view" if self.gathering.everywhere else "where it hangs together"
        band = ", along time" if self.gathering.in_time else ""
        self._bench.said.emit(f"Gathers what is up to {tolerance_db:.0f} dB fainter, {where}{band}.")
        work = self._bench.work
        if self._began is not None and work is not None:
            self.gather(*self._began, work.channel)
        self.changed.emit()

    def widen(self, wider: bool) -> None:
        """Gather again, what is fainter too or only what is louder."""
        self.gather_anew(_TOLERANCE_STEP_DB if wider else -_TOLERANCE_STEP_DB)

    def toggle_harmonics(self) -> None:
        """Take the multiples of the area's frequencies too, as many as sound, or leave them."""
        work = self._bench.work
        if work is None or work.area is None:
            return
        area, version, channel = work.area.area, work.outcome, work.area.channels[0]
        if area.harmonics > 1:
            self.select(replace(area, harmonics=1))
            return

        def found(count: int) -> None:
            if work.area is None or work.area.area != area:
                return
            if count == 1:
                self._bench.said.emit("Nothing of it stands out at the multiples of its frequencies.")
            else:
                self.select(replace(area, harmonics=count))
                self._bench.said.emit(f"The area lies at {count} multiples of its frequencies.")

        self._run("Looking for harmonics", lambda _: sounding_harmonics(version, channel, 0, area), found, "")

    def carry_to_cursor(self) -> None:
        """Have the area begin at the cursor."""
        work = self._bench.work
        if work is not None and work.area is not None:
            self.select(work.area.area.moved(work.cursor - round(work.area.area.extent[0])))

    def copy_to_cursor(self) -> None:
        """Put what is in the area at the cursor too, instead of what is there at its frequencies."""
        work = self._bench.work
        if work is None or work.area is None:
            return
        selected = work.area
        placed = selected.placed(work.frames, work.rate)
        start = work.cursor - (round(selected.area.extent[0]) - placed.start)
        stop = start + placed.stop - placed.start
        if start < 0 or stop > work.frames:
            self._bench.said.emit("The area would go beyond the recording there.")
            return
        settings = {**settings_of(placed.area), "action": "copy", "donor": float(placed.start)}
        self._handwork.apply("area", settings, Place(start, stop, selected.channels), select=False)

    def stretch(self, frames: int) -> None:
        """Have the area last so many frames from its start."""
        work = self._bench.work
        if work is None or work.area is None:
            return
        area = work.area.area
        start, stop, _, _ = area.extent
        self.select(area.moved(-start).stretched(frames / max(1.0, stop - start)).moved(start))

    # Hearing it.

    def hear(self, ear: Ear) -> None:
        """Play the area alone, or everything but it, round and round; or stop that."""
        work = self._bench.work
        if work is None or work.area is None:
            return
        if self.ear is ear:
            self.stop_hearing()
            return
        version, selected = work.outcome, work.area
        placed = selected.placed(work.frames, work.rate)

        def heard(sounds: tuple[np.ndarray, np.ndarray]) -> None:
            if work is not self._bench.work or work.area != selected:
                return
            whole, alone = sounds
            sound = alone if ear is Ear.ALONE else whole - alone
            self.ear = ear
            self._listening.hear_excerpts(Excerpts(whole, sound, work.rate, (0,), (placed.start,)))
            self._listening.play_moment(0)
            self._bench.said.emit(f"Playing {ear.value}; Esc ends that.")
            self.changed.emit()

        self._run("Listening to an area", lambda _: _apart(version, placed, selected.channels), heard, "")

    def stop_hearing(self) -> None:
        """Play the recording again."""
        if self.ear is not None:
            self.ear = None
            self._listening.hear_excerpts(None)
            self.changed.emit()

    @property
    def holds(self) -> bool:
        """Whether Esc has something to end here."""
        return self.ear is not None or self.pen is not Pen.NONE or bool(self._bench.work and self._bench.work.area)

    def leave(self) -> None:
        """End the last thing: hearing the area, the pen, or the area."""
        if self.ear is not None:
            self.stop_hearing()
        elif self.pen is not Pen.NONE:
            self.set_pen(Pen.NONE)
        else:
            self.clear()

    # More like it.

    def find_more(self) -> None:
        """List other places that hold what the area holds, as findings."""
        work = self._bench.work
        if work is None or work.area is None:
            return
        version, selected = work.outcome, work.area
        placed = selected.placed(work.frames, work.rate)

        def found(places: list[Alike]) -> None:
            findings = [
                finding
                for number, one in enumerate(places, 1)
                if (finding := _finding(work, placed, selected.channels, one, number)) is not None
            ]
            if not findings:
                self._bench.said.emit("No other place sounds like it.")
            elif self._surveying.list_more(work, findings):
                self._bench.said.emit(f"{format_count(len(findings), 'other place')} listed as intrusions (N goes on).")

        job = self._run(
            "Looking for more like it",
            lambda job: places_alike(
                version, selected.channels[0], placed.start, placed.area, job.report, job.is_cancelled
            ),
            found,
            "Looking for more was stopped.",
        )
        job.progressed.connect(self.progressed)

    def _place_changed(self) -> None:
        work = self._bench.work
        if self.ear is not None and (work is None or work.area is None):
            self.stop_hearing()

    def _edited(self) -> None:
        """What changes the length would leave the area where other sound is."""
        self.stop_hearing()
        work = self._bench.work
        if work is not None and work.area is not None and work.area.area.extent[1] > work.frames:
            self.clear()


def _apart(version: Version, placed: PlacedArea, channels: tuple[int, ...]) -> tuple[np.ndarray, np.ndarray]:
    """Return the sound of an area's place, and of the area alone, both of shape ``(frames, channels)``."""
    reach = round(CONTEXT_SECONDS * version.rate)
    first = max(0, placed.start - reach)
    wave = version.read(first, min(version.frames, placed.stop + reach)).astype(np.float64)
    span = placed.start - first, placed.stop - first
    whole = wave[span[0] : span[1]]
    alone = np.zeros_like(whole)
    silencing = Treating("level", SILENCED_DB)
    for channel in channels:
        alone[:, channel] = whole[:, channel] - treated(wave[:, channel], span, placed.area, version.rate, silencing)
    return whole.astype(np.float32), alone.astype(np.float32)


def _finding(work: Work, placed: PlacedArea, channels: tuple[int, ...], one: Alike, number: int) -> Finding | None:
    start, stop = placed.start + one.moved, placed.stop + one.moved
    if start < 0 or stop > work.frames:
        return None
    _, _, low, high = placed.area.extent
    return Finding(
        id=str(number),
        kind="intrusion",
        start=start,
        stop=stop,
        channels=channels,
        severity=0.5,
        confidence=round(min(1.0, one.likeness + 0.2), 3),
        evidence=f"sounds like the area at {format_clock(placed.start, work.rate)}, likeness {one.likeness:.2f}",
        detail={
            "band_hz": [round(low, 1), round(high, 1)],
            "outline": placed.area.text,
            "harmonics": placed.area.harmonics,
        },
    )


def area_told(area: Area, rate: int) -> str:
    """Return an area's length and frequencies in words."""
    start, stop, low, high = area.extent
    words = f"{format_length(max(1, round(stop - start)), rate)}, {low:.0f} to {min(high, rate / 2):.0f} Hz"
    return f"{words}, at {area.harmonics} multiples" if area.harmonics > 1 else words
