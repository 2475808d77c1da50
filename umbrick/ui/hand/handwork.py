"""What is done by hand to the selection: splicing, levelling, fading, trimming, redrawing, pasting."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from umbrick.core.mend.applying import Mended, apply_method, together
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.timeline.change import applied
from umbrick.core.timeline.history import Edit, Mend
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, format_clock, format_db, format_length
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job, Run
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work

SOFTENED_SECONDS = 0.005
_HEARD_BEFORE_SECONDS = 0.5

_DONE = {
    "splice": "Spliced",
    "graft": "Grafted",
    "level": "Level changed",
    "fade": "Faded",
    "redraw": "Redrawn",
}

Made = Callable[[Version, Callable[[], bool]], Mended]
"""Makes something of a version; raises CancelledError soon after the function it is given says so."""


class Handwork(Task):
    """Applies a method to the selection, or to the finding in focus, as one undo step; other edits wait meanwhile."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.fade_shape = "s"
        self.fades_to_tone = False
        self.ramp_ms = 20.0

    def reason_against(self) -> str:
        """Return why nothing can be done by hand now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        if work.place() is None:
            return "Select something first: drag in the Passage or the Loupe, or type it (G)."
        return work.held

    # What can be done.

    def splice_out(self, time: str = "close") -> None:
        """Take the selection out and join what is left where it matches best, or fill it from beside."""
        if place := self._place():
            self.apply("splice", {"time": time}, place, select=time == "keep")

    def level(self, gain_db: float) -> None:
        """Raise or lower the selection, with ramps at its edges."""
        if place := self._place():
            self.apply("level", {"gain_db": gain_db, "ramp_ms": self.ramp_ms}, place)

    def fade(self, direction: str, place: Place | None = None) -> None:
        """Fade the selection in or out, by the chosen shape."""
        if place := place or self._place():
            to = "room_tone" if self.fades_to_tone else "silence"
            self.apply("fade", {"direction": direction, "shape": self.fade_shape, "to": to}, place)

    def soften_edges(self) -> None:
        """Fade a few milliseconds at both edges of the selection, or of the recording if nothing is selected."""
        work = self._bench.work
        if work is None:
            return
        place = work.place() or Place(0, work.frames, work.selected_channels)
        length = min(round(SOFTENED_SECONDS * work.rate), (place.stop - place.start) // 2)
        edges = (place._replace(stop=place.start + length), "in"), (place._replace(start=place.stop - length), "out")

        def soften(version: Version, _: Callable[[], bool]) -> Mended:
            fade = method_named("fade")
            return together(
                version, [apply_method(version, fade, {"direction": direction}, [edge]) for edge, direction in edges]
            )

        self.do(work, "soften the edges", soften)

    def keep_only(self) -> None:
        """Take away everything but the selection."""
        if place := self._place():
            self.apply("trim", {}, place, select=False)

    def cut_to_length(self, length: str, ends: str, fade_ms: float) -> None:
        """Keep an exact length from the selection's start, or from the start of the recording."""
        work = self._bench.work
        if work is None:
            return
        start = work.selection.start if work.selection else 0
        place = Place(start, work.frames, tuple(range(work.channels)))
        self.apply("trim", {"length": length, "ends": ends, "crossfade_ms": fade_ms}, place, select=False)

    # How it is done.

    def apply(self, method: str, settings: Parameters, place: Place, select: bool = True) -> None:
        """Apply a method to a place; afterwards the place stays selected, or just its seam is looked at."""
        work = self._bench.work
        if work is None:
            return

        def make(version: Version, is_cancelled: Callable[[], bool]) -> Mended:
            return apply_method(version, method_named(method), settings, [place], is_cancelled=is_cancelled)

        self.do(work, method, make, place if select else None)

    def do(self, work: Work, title: str, make: Made, selected: Place | None = None) -> None:
        """Make something of the version that is worked on, beside the window, and put it in the history."""
        if work.held:
            self._bench.failed.emit(work.held)
            return
        base = work.version

        def run(job: Job) -> tuple[Edit, Version, Mended]:
            mended = make(base, job.is_cancelled)
            work.measure_peak(mended.version)
            return mended.edit(title.replace("_", " ")), mended.version, mended

        def done(result: tuple[Edit, Version, Mended]) -> None:
            edit, version, mended = result
            self._bench.commit_behind(
                work, edit, version, lambda made: self._tell(work, made, _level(mended), selected)
            )

        self._work_out(work, title, run, done)

    def do_edit(self, work: Work, title: str, edit_of: Callable[[], Edit]) -> None:
        """Work out an edit of any kind beside the window, and put it in the history."""
        if work.held:
            self._bench.failed.emit(work.held)
            return

        def run(_: Job) -> tuple[Edit, Version]:
            edit = edit_of()
            version = applied(work.version, edit.changes)
            work.measure_peak(version)
            return edit, version

        def done(result: tuple[Edit, Version]) -> None:
            self._bench.commit_behind(work, *result, lambda made: self._said(work, made))

        self._work_out(work, title, run, done)

    def _work_out(self, work: Work, title: str, run: Run, done: Callable[[Any], None]) -> None:
        """Run something that can be stopped while it is being worked out, with other edits waiting."""
        lease = work.leases.take("Something is being done by hand (Esc stops it); other edits wait.")
        self._run(title, run, done, "Stopped; nothing was changed.").ended.connect(lease.release)

    def put(self, work: Work, title: str, mended: Mended) -> bool:
        """Put something that has been made already in the history; whether that could be done."""
        if mended.version.key not in work.peaks:
            work.note_peak(mended.version, max(work.peak, mended.peak))
        return self._bench.commit(work, mended.edit(title), mended.version) is not None

    def look_at_mend(self, work: Work, mended: Mended) -> None:
        """Look at what was just made by hand, and say what it did."""
        self._look(work, mended.mends[0], None)
        self._bench.focus_changed.emit()
        self._bench.said.emit(f"{told(mended.mends[0], work.rate)} Undo takes that back.")

    def _tell(self, work: Work, edit: Edit, level: str, selected: Place | None) -> None:
        if work is self._bench.work:
            self._look(work, edit.made[0], selected)
            self._bench.focus_changed.emit()
        self._said(work, edit, level)

    def _said(self, work: Work, edit: Edit, level: str = "") -> None:
        self._bench.said.emit(f"{told(edit.made[0], work.rate)}{level} Undo takes that back.")

    def _look(self, work: Work, mend: Mend, selected: Place | None) -> None:
        if selected is not None and not mend.time_shift:
            return
        work.focus = None
        work.selection = None
        place = min(mend.start, work.frames)
        # The join can be heard at once: playing begins a little before it.
        work.cursor = max(0, place - round(_HEARD_BEFORE_SECONDS * work.rate))
        work.loupe = work.loupe.centred(place, work.frames)
        work.passage = work.passage.showing(place, place, work.frames, margin=0.02)
        self._bench.place_changed.emit()
        self._bench.view_changed.emit()

    def _place(self) -> Place | None:
        reason = self.reason_against()
        if reason:
            self._bench.said.emit(reason)
            return None
        assert self._bench.work is not None
        return self._bench.work.place()


def told(mend: Mend, rate: int) -> str:
    """Return what a mend did, in a sentence, with what it does to time."""
    if mend.method == "trim":
        return f"Cut to {format_length(mend.stop - mend.start, rate)}, from {format_clock(mend.start, rate)} on."
    text = f"{_DONE.get(mend.method, 'Mended')} at {format_clock(mend.start, rate)}"
    if mend.time_shift:
        direction = "later" if mend.time_shift > 0 else "earlier"
        text += f": what follows comes {direction} by {format_length(abs(mend.time_shift), rate)}"
    elif mend.parameters.get("time") == "payback":
        text += f": {format_length(mend.stop - mend.start, rate)} taken out, and paid back in the next pause"
    if mend.seam_score is not None:
        text += f", seam score {mend.seam_score:.2f}"
    return f"{text}."


def _level(mended: Mended) -> str:
    level_db = amplitude_to_db(mended.peak)
    return f" Its peak is {format_db(level_db)}." if mended.mends[0].method == "level" and mended.peak else ""
