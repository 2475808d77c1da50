"""The first look: drafted in the background, heard on moments of the recording, and done as one step of the history."""

from __future__ import annotations

from collections.abc import Collection
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QTimer, Signal

from umbrick.core.course.laid import Ground
from umbrick.core.course.step import Course
from umbrick.core.first_look.doing import Done, done
from umbrick.core.first_look.draft import first_look
from umbrick.core.first_look.hearing import Wave, heard
from umbrick.core.first_look.proposal import FirstLook, Proposal
from umbrick.core.mend.applying import Mended
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.history import Edit
from umbrick.core.units import format_count
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.listening import Excerpts, Listening
from umbrick.ui.bench.surveying import Surveying
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work

_BETWEEN_SECONDS = 0.25


class Looked(NamedTuple):
    """A first look, and the state of the recording that it was made of."""

    work: Work
    look: FirstLook
    ground: Ground
    course: Course
    findings: tuple[Finding, ...]

    def chosen(self, numbers: Collection[int]) -> list[Proposal]:
        """Return the proposals of these numbers, in their order."""
        return [one for number, one in enumerate(self.look.proposals) if number in numbers]


class Looking(Task):
    """Drafts a treatment, has it heard before anything is done, and does what is chosen of it."""

    looked = Signal(object)
    """A :class:`Looked` is there for the person."""
    heard_changed = Signal()
    """What is heard of a draft is worked out, or is being worked out."""

    def __init__(self, bench: Bench, surveying: Surveying, listening: Listening) -> None:
        super().__init__(bench)
        self._surveying = surveying
        self._listening = listening
        self._awaited: Work | None = None
        """The recording of which a first look is taken once it is surveyed."""
        surveying.changed.connect(self._look)
        self._hearing: Job | None = None
        self._before: list[Wave] = []
        self._mended: dict[str, tuple[Mended, ...]] = {}

    def reason_against(self) -> str:
        """Return why no first look can be taken now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        if self._surveying.job is not None:
            return "The survey is under way: a first look is drafted from what it finds."
        return work.held or ("A first look is being taken already." if self.job else "")

    def start(self) -> None:
        """Draft a treatment of the current recording, which is surveyed first if it has not been yet."""
        work = self._bench.work
        if work is None or self.reason_against():
            return
        if work.survey is None:
            self._awaited = work
            self._surveying.start()
        else:
            self._draft(work)

    def _look(self) -> None:
        work = self._awaited
        if work is None or self._surveying.job is not None:
            return
        self._awaited = None
        if work is self._bench.work and work.survey is not None and work.survey.frames == work.frames:
            self._draft(work)

    def _draft(self, work: Work) -> None:
        ground, course = work.ground, work.history.course
        findings = tuple(work.listing().all_open())

        def run(job: Job) -> Looked:
            peak = work.measure_peak(ground.version)
            look = first_look(ground, course, findings, peak, job.report, job.is_cancelled)
            return Looked(work, look, ground, course, findings)

        def show(looked: Looked) -> None:
            # Once the work has ended: whoever shows it may wait for the person.
            QTimer.singleShot(0, lambda: self.looked.emit(looked))

        self._run("taking a first look", run, show, "The first look was stopped; nothing was changed.")

    # Hearing it.

    @property
    def is_working_out(self) -> bool:
        """Whether what is to be heard is still being worked out."""
        return self._hearing is not None

    def hear(self, looked: Looked, numbers: Collection[int]) -> None:
        """Work out the moments of a recording with some proposals done there, for the person to hear."""
        if self._hearing is not None:
            self._hearing.cancel()
        chosen, mended = looked.chosen(numbers), self._mended

        def moments(job: Job, proposals: list[Proposal]) -> list[Wave]:
            look, ground = looked.look, looked.ground
            return heard(proposals, look.moments, ground, looked.course, looked.findings, job.is_cancelled, mended)

        def run(job: Job) -> tuple[list[Wave], list[Wave]]:
            before = self._before or moments(job, [])
            return before, moments(job, chosen)

        def came(parts: tuple[list[Wave], list[Wave]]) -> None:
            self._before = parts[0]
            self._listening.hear_excerpts(_excerpts(looked, *parts))

        def ended() -> None:
            if self._hearing is job:
                self._hearing = None
                self.heard_changed.emit()

        job = self._hearing = self._bench.jobs.start("working out what is heard", run, came, ended=ended)
        self.heard_changed.emit()

    def leave(self) -> None:
        """Hear the recording again."""
        if self._hearing is not None:
            self._hearing.cancel()
            self._hearing = None
        self._before, self._mended = [], {}
        self._listening.hear_excerpts(None)

    # Doing it.

    def do(self, looked: Looked, numbers: Collection[int]) -> None:
        """Do what is chosen: all of it is one step of the history, and each mend and step can be lifted off."""
        work, chosen = looked.work, looked.chosen(numbers)
        if not chosen:
            return
        if work.version is not looked.ground.version or work.history.course != looked.course:
            self._bench.failed.emit("The recording has changed since the first look was taken; take another one.")
            return
        if work.held:
            self._bench.failed.emit(work.held)
            return
        lease = work.leases.take("What the first look proposes is being done (Esc stops it); other edits wait.")

        def run(job: Job) -> Done:
            made = done(chosen, looked.ground, looked.course, looked.findings, job.report, job.is_cancelled)
            work.measure_peak(made.version)
            return made

        def write(made: Done) -> None:
            lease.release()
            edit = made.edit()
            if not edit.changes and not edit.marks:
                self._bench.said.emit("Nothing was done: what was proposed found nothing to do.")
                return
            self._bench.commit_behind(work, edit, made.version, lambda stored: self._tell(stored, made))

        job = self._run("doing what is proposed", run, write, "Stopped; nothing was changed.")
        job.ended.connect(lease.release)

    def _tell(self, stored: Edit, made: Done) -> None:
        mended = format_count(len(stored.made), "place")
        steps = format_count(len(made.course) - len(made.before), "step")
        left = f" {made.declined[0]}" if made.declined else ""
        self._bench.said.emit(f"{mended} mended, {steps} laid.{left} Undo takes all of it back.")


def _excerpts(looked: Looked, before: list[Wave], after: list[Wave]) -> Excerpts:
    """Return what is played: the moments one after another, each followed by a little silence."""
    rate = looked.ground.version.rate
    starts = [moment.start for moment in looked.look.moments]
    # Where mends have changed the length of a moment, both take as long as the longer one.
    lengths = [max(len(one), len(other)) for one, other in zip(before, after, strict=True)]
    gap = round(_BETWEEN_SECONDS * rate)
    bounds = np.concatenate([[0], np.cumsum([length + gap for length in lengths])]).astype(int).tolist()
    channels = looked.ground.version.channels
    played_before, played_after = (_joined(parts, bounds, channels) for parts in (before, after))
    return Excerpts(played_before, played_after, rate, tuple(bounds[:-1]), tuple(starts))


def _joined(parts: list[Wave], bounds: list[int], channels: int) -> Wave:
    made = np.zeros((bounds[-1], channels), np.float32)
    for part, start in zip(parts, bounds, strict=False):
        made[start : start + len(part)] = part
    return made
