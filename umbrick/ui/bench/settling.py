"""Making what the course does ordinary samples: on demand, or to keep what an earlier Umbrick made."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from umbrick.core.course.acting import told
from umbrick.core.course.earlier import brought_up, is_earlier, still_kept
from umbrick.core.course.frozen import freeze
from umbrick.core.course.laid import rendered_source
from umbrick.core.course.settling import settling
from umbrick.core.course.step import Course, Spans
from umbrick.core.timeline.change import applied
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.marks import CourseTurn
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_length
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work

_SINGLE_BITS = 24
"""Samples of more bits than this lose some in single precision."""


@dataclass(frozen=True)
class _Made:
    edit: Edit
    version: Version
    frames: int


@dataclass(frozen=True)
class _Freezing:
    """A recording as it was when settling began: what freezes its sound runs beside the window."""

    version: Version
    original: Version
    course: Course
    folder: Path
    is_double: bool

    @staticmethod
    def of(work: Work) -> _Freezing:
        bits = work.recording.format.bits
        is_double = bits is None or bits > _SINGLE_BITS
        history = work.history
        return _Freezing(work.version, history.original, history.course, work.shelf.store.settled_folder, is_double)

    def made(
        self,
        outcome: Version,
        spans: Spans,
        title: str,
        turns: tuple[CourseTurn, ...],
        progress: Callable[[float], None],
        is_cancelled: Callable[[], bool],
    ) -> _Made:
        """Return the edit that puts what an outcome is in some spans in place of what is there."""
        frozen = freeze(outcome, spans, self.folder, self.is_double, progress, is_cancelled)
        edit = settling(self.version, spans, frozen, self.course, self.original, title, turns)
        return _Made(edit, applied(self.version, edit.changes), frozen.frames)


class Settling(Task):
    """Freezes what the course makes of a recording as a sound file beside its casebook, by one edit."""

    def reason_against(self) -> str:
        """Return why the course cannot be settled now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        if work.held:
            return work.held
        return "" if rendered_source(work.outcome) is not None else "Nothing is laid over this recording (F3)."

    def settle(self) -> None:
        """Make what the course does of the selection, or of all, ordinary samples: one line of the ledger."""
        work = self._bench.work
        if work is None or work.held:
            return
        spans = (work.selection.span if work.selection else (0, work.frames),)
        outcome, freezing = work.outcome, _Freezing.of(work)

        def run(job: Job) -> _Made:
            return freezing.made(outcome, spans, "settle the course", (), job.report, job.is_cancelled)

        def settled(_: _Made | None) -> None:
            text = "Settled: the course's sound is ordinary samples there. Lifting it off takes that back."
            self._bench.said.emit(text)

        self._start(work, "settling the course", run, settled)

    def tell_of_other_sound(self, work: Work) -> None:
        """Say if steps were made with another version of their treatment, which sounded different."""
        older = [step for step in work.history.course if is_earlier(step)]
        if older:
            names = ", ".join(told(step) for step in older)
            keep = Choice("Keep the old sound", lambda: self._keep(work))
            take = Choice("Take the new sound", lambda: self._take(work))
            text = f"{work.home.name}: {names} may sound different from before: Umbrick has learned to do it otherwise."
            self._bench.noticed.emit(Notice(text, (keep, take)))

    def _take(self, work: Work) -> None:
        if work.held:
            self._bench.failed.emit(work.held)
            return
        course = work.history.course
        turn = CourseTurn(course, brought_up(course))
        self._bench.commit(work, Edit("take the new sound", marks=(turn,)), work.version)

    def _keep(self, work: Work) -> None:
        """Settle what is still kept of the old sound, and take the new one elsewhere."""
        if work.held:
            self._bench.failed.emit(work.held)
            return
        freezing = _Freezing.of(work)
        as_made = work.ground.through(freezing.course, as_made=True)
        turns = (CourseTurn(freezing.course, brought_up(freezing.course)),)

        def run(job: Job) -> _Made | None:
            spans = still_kept(as_made, lambda share: job.report(0.5 * share), job.is_cancelled)
            if not spans:
                return None
            return freezing.made(
                as_made,
                spans,
                "keep the old sound",
                turns,
                lambda share: job.report(0.5 + 0.5 * share),
                job.is_cancelled,
            )

        def kept(made: _Made | None) -> None:
            if made is None:
                self._bench.said.emit("Nothing of the old sound is kept on the disk any more; nothing was changed.")
                self.tell_of_other_sound(work)
                return
            length = format_length(made.frames, work.rate)
            self._bench.said.emit(f"The old sound is kept for {length}, as samples of its own; the rest is made anew.")

        self._start(work, "keeping the old sound", run, kept)

    def _start(
        self, work: Work, title: str, run: Callable[[Job], _Made | None], then: Callable[[_Made | None], None]
    ) -> None:
        lease = work.leases.take("The course is being settled (Esc stops it); other edits wait.")

        def done(made: _Made | None) -> None:
            lease.release()
            if made is None:
                then(made)
            else:
                self._bench.commit_behind(work, made.edit, made.version, lambda _: then(made))

        job = self._run(title, run, done, "Settling stopped; nothing was changed.")
        job.ended.connect(lease.release)
