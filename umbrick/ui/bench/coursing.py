"""The course of the current recording: its steps, what of it is being tried, and working it out ahead."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from enum import Enum
from typing import Any

from PySide6.QtCore import Signal

from umbrick.core.course.acting import method_of, told, treatment_of
from umbrick.core.course.for_kinds import Laid, laid_for
from umbrick.core.course.laid import rendered_source
from umbrick.core.course.learning import learned, new_step, what_is_learned_from
from umbrick.core.course.rendering import Rendering
from umbrick.core.course.step import WITHIN_HZ, Course, Spans, Step, free_id, merged, without
from umbrick.core.measure.pauses import all_pauses
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.registry import method_named
from umbrick.core.survey.finding import SPANNING_KINDS
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.marks import CourseTurn
from umbrick.core.timeline.positions import map_position, map_spans
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_count
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work


class Ear(Enum):
    """How one step of a course is listened to."""

    ALONE = "alone"
    WITHOUT = "without"


class Coursing(Task):
    """Changes the course, each time by one edit that can be undone; ``chosen`` is the step one works on."""

    trying = Signal(object)
    """Other settings are about to be tried; the course as it was heard until now."""
    grown = Signal()
    """More of what the course makes can be drawn."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.chosen = ""
        self.is_open = False
        """Whether the treatment panel shows the course."""
        self._tried: tuple[Work, Course, Course] | None = None
        """What is tried instead of a recording's course, and which course that was."""
        self.ear: tuple[str, Ear] | None = None
        self.rendering = Rendering(self.grown.emit, bench.failed.emit)
        bench.recording_changed.connect(self._leave)
        bench.edited.connect(self._look)

    # What is heard and drawn.

    def course_of(self, work: Work) -> Course:
        """Return the course that is heard: what is tried, of one step alone, without it, or all of it."""
        course = work.history.course
        if self._tried is not None and self._tried[0] is work and self._tried[1] == course:
            course = self._tried[2]
        if self.ear is not None and work is self._bench.work:
            name, ear = self.ear
            course = tuple(step for step in course if (step.id == name) == (ear is Ear.ALONE))
        return course

    def through(self, work: Work, version: Version) -> Version:
        """Return a version through the course that is heard."""
        return work.through(version, self.course_of(work))

    def attend(self, version: Version, window: tuple[int, int], playhead: int | None) -> None:
        """Work out what is shown and heard, ahead of time."""
        self.rendering.attend(rendered_source(version), window, playhead)

    def hear(self, name: str, ear: Ear) -> None:
        """Hear a step alone, or all but it; the same again ends that."""
        self.ear = None if self.ear == (name, ear) else (name, ear)
        self.changed.emit()

    # The steps.

    @property
    def steps(self) -> Course:
        """The steps of the current recording, with what is being tried."""
        work = self._bench.work
        if work is None:
            return ()
        tried = self._tried
        is_tried = tried is not None and tried[0] is work and tried[1] == work.history.course
        return tried[2] if tried is not None and is_tried else work.history.course

    @property
    def step(self) -> Step | None:
        """The chosen step."""
        return next((step for step in self.steps if step.id == self.chosen), None)

    def set_open(self, is_open: bool) -> None:
        """Show the course in the treatment panel, or what is at the place one looks at."""
        self.is_open = is_open
        if is_open and self.step is None and self.steps:
            self.chosen = self.steps[0].id
        self.changed.emit()

    def refuse(self, reason: str) -> None:
        """Say why something cannot be."""
        self._bench.failed.emit(reason)

    def learns(self) -> bool:
        """Whether the chosen step is set by something it measured."""
        return self.step is not None and treatment_of(self.step).measures

    def choose_next(self, by: int) -> None:
        """Work on the next step, round at the end."""
        names = [step.id for step in self.steps]
        if names:
            here = names.index(self.chosen) if self.chosen in names else -1
            self.choose(names[(here + by) % len(names)])

    def move_by(self, by: int) -> None:
        """Have sound go through the chosen step earlier, or later."""
        names = [step.id for step in self.steps]
        if self.chosen in names:
            self.move(self.chosen, names.index(self.chosen) + by)

    def choose(self, name: str) -> None:
        """Work on a step."""
        self.chosen = name
        self.changed.emit()

    def reason_against(self) -> str:
        """Return why the course cannot be changed now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        return work.held

    def add(self, method: str, settings: Parameters) -> None:
        """Lay a treatment over the selection, or over all of the recording if nothing is selected."""
        work = self._bench.work
        if work is None or self._is_held(work):
            return
        spans = None
        if work.selection is not None:
            spans = map_spans(work.version, work.history.original, [work.selection.span])
        on = work.selection.channels if work.selection else tuple(range(work.channels))
        self._lay(work, method, settings, on, spans)

    def laid_for_focus(self) -> Laid | None:
        """Return what can be laid over the recording for the finding in focus; None if nothing is known."""
        work = self._bench.work
        return laid_for(work.focus) if work is not None and work.focus is not None else None

    def reason_not_to_lay_for_focus(self) -> str:
        """Return why that cannot be laid now, or nothing."""
        if reason := self.reason_against():
            return reason
        return "" if self.laid_for_focus() else "This is for hum, hiss, rumble and DC: choose one (N)."

    def lay_for_focus(self) -> None:
        """Lay over all of the recording what takes out the finding in focus."""
        work, laid = self._bench.work, self.laid_for_focus()
        if work is None or work.focus is None or laid is None or self._is_held(work):
            return
        self._lay(work, laid.method, laid.settings, tuple(range(work.channels)), None)

    def add_by_print(self, method: str) -> None:
        """Lay over all of the recording what takes out noise, or hum, as it is where something is selected."""
        work = self._bench.work
        if work is None or work.selection is None or self._is_held(work):
            return
        start, stop = work.selection.span
        self._lay(work, method, {"print": f"{start}-{stop}"}, tuple(range(work.channels)), None)

    def learn_again(self, name: str) -> None:
        """Measure again what a step learned, from the sound that comes to it now."""
        work, step = self._bench.work, self._named(name)
        if work is None or step is None or self._is_held(work):
            return
        self._learn(work, step, self._exchanging(work, "measure for"))

    def has_changed_since(self, step: Step) -> bool:
        """Whether what a step was learned from is another sound now."""
        work = self._bench.work
        if work is None or not treatment_of(step).measures:
            return False
        now = what_is_learned_from(work.ground, work.history.course, step)
        return now != step.learned_from

    def set_settings(self, name: str, changed: Parameters) -> None:
        """Change settings of a step; ParameterError if one makes no sense."""
        work, step = self._bench.work, self._named(name)
        if work is None or step is None or self._is_held(work):
            return
        settings = method_of(step).checked(step.settings | dict(changed))
        if settings == step.settings and self._tried is None:
            return
        changed_step = replace(step, settings=settings)
        if any(settings[name] != step.settings[name] for name in treatment_of(step).measured_by):
            self._learn(work, changed_step, self._exchanging(work, "change"))
        else:
            self._exchange(work, changed_step, f"change {_title(step)}")

    def try_settings(self, name: str, changed: Parameters) -> None:
        """Hear a step with other settings, until they are kept or dropped."""
        work, step = self._bench.work, self._named(name)
        if work is not None and step is not None:
            self._try(work, replace(step, settings=method_of(step).checked(step.settings | dict(changed))))

    def keep_tried(self) -> None:
        """Make what is tried so."""
        if self._tried is None:
            return
        work, before, after = self._tried
        if work.history.course != before or before == after or self._is_held(work):
            self.drop_tried()
            return
        changed = next((step for step in after if step not in before), after[0])
        self._put(work, f"change {_title(changed)}", after, changed.id)

    def drop_tried(self) -> None:
        """Hear the course as it is again."""
        self._tried = None
        self.changed.emit()

    def switch(self, name: str) -> None:
        """Switch a step off, or on again."""
        work, step = self._bench.work, self._named(name)
        if work is not None and step is not None and not self._is_held(work):
            what = "off" if step.is_on else "on"
            self._exchange(work, replace(step, is_on=not step.is_on), f"switch {_title(step)} {what}")

    def take_off(self, name: str) -> None:
        """Take a step off."""
        work, step = self._bench.work, self._named(name)
        if work is not None and step is not None and not self._is_held(work):
            rest = tuple(other for other in work.history.course if other.id != name)
            self._put(work, f"take off {_title(step)}", rest, rest[-1].id if rest else "")

    def move(self, name: str, to: int) -> None:
        """Have sound go through a step at another place of the course, counted from 0."""
        work, step = self._bench.work, self._named(name)
        if work is None or step is None or self._is_held(work):
            return
        rest = [other for other in work.history.course if other.id != name]
        to = min(max(0, to), len(rest))
        course = (*rest[:to], step, *rest[to:])
        if course != work.history.course:
            self._put(work, f"move {_title(step)}", course, name)

    def lay_over_all(self) -> None:
        """Have the chosen step lie over all of the recording."""
        self._lay_over(None, "")

    def lay_over_selection(self) -> None:
        """Have the chosen step lie over just the selection."""
        if (work := self._bench.work) and work.selection:
            self._lay_over(map_spans(work.version, work.history.original, [work.selection.span]), "")

    def lay_over_area(self) -> None:
        """Have the chosen step lie over just the area's time, and act in just its band."""
        work, step = self._bench.work, self.step
        if work is None or step is None or work.area is None:
            return
        placed = work.area.placed(work.frames, work.rate)
        _, _, low, high = work.area.area.extent
        band = f"{max(0, round(low))}-{round(min(high, work.rate / 2))}"
        spans = map_spans(work.version, work.history.original, [(placed.start, placed.stop)])
        settings = {**step.settings, WITHIN_HZ: band}
        self._lay_over(spans, "", settings=settings, channels=tuple(sorted(work.area.channels)))

    def reason_against_area(self) -> str:
        """Return why a step cannot be laid over an area now, or nothing."""
        return "" if self._bench.work and self._bench.work.area else "Select an area first, in the spectrogram (V)."

    def reason_against_step(self) -> str:
        """Return why the chosen step cannot be changed now, or nothing."""
        return self.reason_against() or ("" if self.step else "Choose a step of the course first (F3).")

    def reason_against_selection(self) -> str:
        """Return why a step cannot be laid over the selection now, or nothing."""
        return "" if self._bench.work and self._bench.work.selection else "Select something first: drag in the Passage."

    def reason_against_findings(self) -> str:
        """Return why a step cannot be laid over the findings of a kind now, or nothing."""
        work = self._bench.work
        if work is None or work.focus is None or work.focus.kind in SPANNING_KINDS:
            return "Choose a finding first: the step is laid over all of its kind (N goes to the next)."
        return ""

    def lay_over_findings(self) -> None:
        """Have the chosen step lie over the findings listed of the kind in focus, and its ramps beside them."""
        work, step = self._bench.work, self.step
        if work is None or step is None or work.focus is None:
            return
        kind, ramp = KINDS[work.focus.kind], step.ramp_frames(work.rate)
        listing = work.listing()
        rows = [row for row in listing.rows.tolist() if listing.table.findings[row].kind == kind.name]
        findings = [listing.table.findings[row] for row in rows]
        spans = [(max(0, f.start - ramp), min(work.frames, f.stop + ramp)) for f in findings]
        self._lay_over(map_spans(work.version, work.history.original, spans), kind.title.lower())

    def lay_over_pauses(self) -> None:
        """Have the chosen step lie over the pauses of the recording."""
        work, step = self._bench.work, self.step
        if work is None or step is None or self._is_held(work):
            return
        version, original = work.version, work.history.original

        def run(job: Job) -> list[tuple[int, int]]:
            return map_spans(version, original, all_pauses(version, job.report, job.is_cancelled))

        def done(spans: list[tuple[int, int]]) -> None:
            self.job = None  # the step may have to be measured there now
            if not spans:
                self._bench.said.emit("There is no pause in this recording.")
            else:
                self._lay_over(spans, "pauses")

        self._run("finding the pauses", run, done, "Stopped; nothing was changed.")

    def _lay_over(self, spans: list[tuple[int, int]] | None, where: str, **more: Any) -> None:
        """Have the chosen step lie over spans, and be otherwise by some of its fields; it learns there anew."""
        work, step = self._bench.work, self.step
        if work is None or step is None or self._is_held(work):
            return
        changed = replace(step, spans=None if spans is None else merged(spans), where=where, **more)
        self._learn(work, changed, self._exchanging(work, "place"))

    def lay_on_channels(self) -> None:
        """Have the chosen step act on just the channels that are selected; what it learned is learned anew."""
        work, step = self._bench.work, self.step
        if work is not None and step is not None and not self._is_held(work):
            self._learn(work, replace(step, channels=work.selected_channels), self._exchanging(work, "place"))

    def reason_not_to_carry(self) -> str:
        """Return why the chosen step cannot be carried to another place now, or nothing."""
        if reason := self.reason_against_step():
            return reason
        assert self.step is not None
        return "This step is laid over all of it." if self.step.spans is None else ""

    def carry(self) -> None:
        """Have the chosen step act on the selection too; without one, for as long from the cursor on."""
        work, step = self._bench.work, self.step
        if work is None or step is None or not step.spans or self._is_held(work):
            return
        start, stop = step.spans[-1]
        place = work.selection.span if work.selection else (work.cursor, min(work.frames, work.cursor + stop - start))
        spans = merged([*step.spans, *map_spans(work.version, work.history.original, [place])])
        if spans == step.spans:
            self._bench.said.emit("The step acts there already.")
        elif self._exchange(work, replace(step, spans=spans, where=""), f"carry {_title(step)}"):
            self._bench.said.emit(f"{_title(step)} acts on {format_count(len(spans), 'place')} now.")

    def reason_not_to_spare(self) -> str:
        """Return why the chosen step cannot leave a place out now, or nothing."""
        if reason := self.reason_against_step():
            return reason
        assert self.step is not None
        work = self._bench.work
        return (
            ""
            if work is not None and self._spared(work, self.step) != self.step.spans
            else "The step does nothing here."
        )

    def spare(self) -> None:
        """Have the chosen step leave the selection as it is; without one, the place at the cursor."""
        work, step = self._bench.work, self.step
        if work is not None and step is not None and not self._is_held(work):
            self._exchange(
                work, replace(step, spans=self._spared(work, step), where=""), f"spare a place of {_title(step)}"
            )

    def _spared(self, work: Work, step: Step) -> Spans | None:
        original = work.history.original
        spans = ((0, original.frames),) if step.spans is None else step.spans
        if work.selection is not None:
            left = without(spans, tuple(map_spans(work.version, original, [work.selection.span])))
            return step.spans if left == spans else left
        if step.spans is None:
            return None
        at = map_position(work.version, original, work.cursor)
        return tuple(span for span in step.spans if not span[0] <= at < span[1])

    def reason_not_to_carry_over(self) -> str:
        """Return why the chosen step cannot be carried to the other recordings now, or nothing."""
        if reason := self.reason_against_step():
            return reason
        assert self.step is not None
        if self.step.spans is not None:
            return "This step is laid over single places; only one over all of it fits another recording."
        return "" if len(self._bench.works) > 1 else "No other recording is open."

    def carry_over(self) -> None:
        """Lay the chosen step over every other open recording."""
        step = self.step
        if step is None or step.spans is not None:
            return
        for work in self._bench.works:
            if work is not self._bench.work and not self._is_held(work):
                on = tuple(range(work.channels))
                copied = replace(step, id=free_id(work.history.course), channels=on, profile={}, learned_from="")
                self._learn(work, copied, self._laying(work))

    def _lay(
        self,
        work: Work,
        method: str,
        settings: Parameters,
        on: tuple[int, ...],
        spans: list[tuple[int, int]] | None,
    ) -> None:
        """Lay a new step, once it has learned what it has to know, and show it."""
        step = new_step(method_named(method), settings, on, spans, work.history.course)
        self.set_open(True)
        self._learn(work, step, self._laying(work))

    def _laying(self, work: Work) -> Callable[[Step], None]:
        def lay(ready: Step) -> None:
            # Another step may have been laid while this one was measured.
            ready = replace(ready, id=free_id(work.history.course))
            chosen = ready.id if work is self._bench.work else ""
            self._put(work, f"lay {_title(ready)}", (*work.history.course, ready), chosen)

        return lay

    # How it is done.

    def _named(self, name: str) -> Step | None:
        return next((step for step in self.steps if step.id == name), None)

    def _is_held(self, work: Work) -> bool:
        if work.held:
            self._bench.failed.emit(work.held)
        return bool(work.held)

    def _try(self, work: Work, step: Step) -> None:
        before = work.history.course
        self.trying.emit(self.course_of(work))
        self._tried = work, before, _exchanged(self.steps, step)
        self.changed.emit()

    def _exchanging(self, work: Work, what: str) -> Callable[[Step], None]:
        def exchange(ready: Step) -> None:
            self._exchange(work, ready, f"{what} {_title(ready)}")

        return exchange

    def _exchange(self, work: Work, step: Step, title: str) -> bool:
        return self._put(work, title, _exchanged(work.history.course, step), step.id)

    def _put(self, work: Work, title: str, course: Course, chosen: str) -> bool:
        """Write a course in place of a recording's; whether that could be done."""
        before = work.history.course
        self._tried = None
        was, self.chosen = self.chosen, chosen or self.chosen
        if self._bench.commit(work, Edit(title, marks=(CourseTurn(before, course),)), work.version) is None:
            self.chosen = was
            self.changed.emit()
            return False
        if work is not self._bench.work:
            self.changed.emit()
        return True

    def _learn(self, work: Work, step: Step, then: Callable[[Step], None]) -> None:
        """Learn what a step has to know, beside the window if it has to, and go on with it."""
        if not treatment_of(step).measures:
            then(step)
            return
        if self.job is not None:
            self._bench.said.emit("A step is being measured already; one at a time.")
            return
        ground, course = work.ground, work.history.course

        def run(job: Job) -> Step:
            return learned(ground, course, step, job.report, job.is_cancelled)

        self._run(f"measuring for {_title(step)}", run, then, "Measuring stopped; nothing was changed.")

    def _look(self) -> None:
        """After an edit: what was tried belongs to a course that is no more."""
        if self.ear is not None and all(step.id != self.ear[0] for step in self.steps):
            self.ear = None
        self.changed.emit()

    def _leave(self) -> None:
        self._tried, self.ear, self.chosen = None, None, ""
        self.changed.emit()

    def close(self) -> None:
        """Stop working ahead."""
        self.rendering.close()


def _exchanged(course: Iterable[Step], step: Step) -> Course:
    return tuple(step if other.id == step.id else other for other in course)


def _title(step: Step) -> str:
    words = told(step)
    return words[:1].lower() + words[1:] if words[1:2].islower() else words
