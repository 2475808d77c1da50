"""Making what the course does ordinary samples: on demand, or to keep what an earlier Umbrick made."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from umbrick.core.course.acting import told
from umbrick.core.course.earlier import brought_up, is_earlier, still_kept
from umbrick.core.course.frozen import freeze
from umbrick.core.course.laid import rendered_source
from umbrick.core.course.settling import settling
from umbrick.core.course.step import Spans
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

_KEEP_TITLE = "keep the old sound"


@dataclass(frozen=True)
class _Made:
    edit: Edit
    version: Version
    frames: int


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
        outcome, freezing = work.outcome, self._freezing(work)

        def run(job: Job) -> _Made:
            return freezing(job, outcome, spans, "settle the course", ())

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
        course, freezing = work.history.course, self._freezing(work)
        as_made = work.ground.through(course, as_made=True)

        def run(job: Job) -> _Made | None:
            spans = still_kept(as_made, lambda share: job.report(0.5 * share), job.is_cancelled)
            turns = (CourseTurn(course, brought_up(course)),)
            return freezing(job, as_made, spans, _KEEP_TITLE, turns) if spans else None

        def kept(made: _Made | None) -> None:
            if made is None:
                self._bench.said.emit("Nothing of the old sound is kept on the disk any more; nothing was changed.")
                self.tell_of_other_sound(work)
                return
            length = format_length(made.frames, work.rate)
            self._bench.said.emit(f"The old sound is kept for {length}, as samples of its own; the rest is made anew.")

        self._start(work, "keeping the old sound", run, kept)

    def _freezing(self, work: Work) -> Callable[[Job, Version, Spans, str, tuple[CourseTurn, ...]], _Made]:
        """Return what freezes spans of an outcome of a recording as it is now; it runs beside the window."""
        version, course, original = work.version, work.history.course, work.history.original
        folder, bits = work.shelf.store.settled_folder, work.recording.format.bits
        is_double = bits is None or bits > _SINGLE_BITS

        def make(job: Job, outcome: Version, spans: Spans, title: str, turns: tuple[CourseTurn, ...]) -> _Made:
            frozen = freeze(outcome, spans, folder, is_double, job.report, job.is_cancelled)
            edit = settling(version, spans, frozen, course, original, title, turns)
            return _Made(edit, applied(version, edit.changes), frozen.frames)

        return make

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
