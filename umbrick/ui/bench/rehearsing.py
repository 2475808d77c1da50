"""Rehearsing in the background which mend works best for a kind of fault, and keeping to it."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

from PySide6.QtCore import QObject, Signal

from umbrick.core.mend.rehearsal import KINDS, Rehearsal, rehearse
from umbrick.core.survey.finding import Finding
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.work.work import Work


class Rehearsed(NamedTuple):
    """What a rehearsal for a finding showed."""

    work: Work
    finding: Finding
    rehearsal: Rehearsal


class Rehearsing(QObject):
    """Rehearses for the finding in focus; what is chosen then comes first for its kind in this recording."""

    changed = Signal()
    """A rehearsal has begun or ended."""
    progressed = Signal(float)
    rehearsed = Signal(object)

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.job: Job | None = None

    def start(self) -> None:
        """Plant the fault in focus elsewhere, and measure every mend of it."""
        work = self._bench.work
        finding = work.focus if work else None
        if work is None or finding is None or self.job is not None:
            return
        version, known = work.version, work.listing().open_findings()
        self.job = self._bench.jobs.start(
            "rehearsing",
            lambda job: rehearse(finding, version, known, job.report, job.is_cancelled),
            lambda done: self.rehearsed.emit(Rehearsed(work, finding, done)),
        )
        self.job.progressed.connect(self.progressed)
        self.job.cancelled.connect(lambda: self._bench.said.emit("The rehearsal was stopped."))
        self.job.ended.connect(self._ended)
        self.changed.emit()

    def stop(self) -> None:
        """Stop rehearsing."""
        if self.job:
            self.job.cancel()

    def prefer(self, rehearsed: Rehearsed, title: str) -> None:
        """Have a mend come first for this kind of fault in this recording; an empty title forgets that."""
        work, kind = rehearsed.work, rehearsed.finding.kind
        standing = work.history.standing
        preferred = {name: first for name, first in standing.preferred.items() if name != kind}
        if title:
            preferred[kind] = title
        if self._bench.decide(work, f"which mend comes first for {kind}", replace(standing, preferred=preferred)):
            self._bench.said.emit(f"“{title}” comes first now." if title else "The usual order is back.")

    def reason_against(self) -> str:
        """Return why nothing can be rehearsed now, or nothing."""
        work = self._bench.work
        if work is None or work.focus is None:
            return "Choose a finding first (N goes to the next)."
        if work.focus.kind not in KINDS:
            return "This kind of fault cannot be simulated, so mends cannot be compared."
        return "A rehearsal is under way (Esc stops it)." if self.job else ""

    def _ended(self) -> None:
        self.job = None
        self.changed.emit()
