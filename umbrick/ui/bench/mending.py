"""Candidates for the finding in focus, and mending: one finding, or all alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QObject, Signal

from umbrick.core.errors import CancelledError
from umbrick.core.mend.applying import Mended, apply_method
from umbrick.core.mend.method import Candidate, Method
from umbrick.core.mend.place import Place, mask_of
from umbrick.core.mend.registry import method_for
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, format_count, format_db, format_lowering
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.work import Work

PICTURE_MARGIN = 12
_NEAR_SECONDS = 2
"""Damage further away than this is of no use to any method's context."""


@dataclass(frozen=True, eq=False)
class Offer:
    """A candidate as computed for a finding: the version it would give, its peak, and samples for a small picture."""

    candidate: Candidate
    mended: Mended
    peak: float
    before: npt.NDArray[np.float32]
    after: npt.NDArray[np.float32]


@dataclass
class Offers:
    """What is offered for one finding in one version; ``offers`` fill up in the order of the method's candidates."""

    finding: Finding
    version: Version
    method: Method
    offers: list[Offer | None] = field(default_factory=list)
    chosen: int = 0

    @property
    def current(self) -> Offer | None:
        """The chosen candidate, if it has been computed."""
        return self.offers[self.chosen] if self.chosen < len(self.offers) else None


class Mending(QObject):
    """Computes candidates in the background, newest request first, and applies what is chosen."""

    offers_changed = Signal()
    changed = Signal()
    """Mending all alike has begun or ended."""
    progressed = Signal(float)

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.offers: Offers | None = None
        self.job: Job | None = None
        self._offering: Job | None = None
        self._writing: Job | None = None
        bench.focus_changed.connect(self._refresh)
        bench.version_changed.connect(self._refresh)
        bench.findings_changed.connect(self._refresh)
        bench.recording_changed.connect(self._refresh)

    def offer_in(self, work: Work) -> Offer | None:
        """Return the chosen candidate, if it has been computed and is one for a recording as it stands now."""
        offers = self.offers
        return offers.current if offers and offers.version.key == work.version.key else None

    def choose(self, index: int) -> None:
        """Choose a candidate, counted from 0: strips and loop show it."""
        if self.offers and index < len(self.offers.offers) and index != self.offers.chosen:
            self.offers.chosen = index
            self.offers_changed.emit()

    def mend(self) -> None:
        """Mend the finding in focus with the chosen candidate, and go on to the next."""
        work, offers = self._bench.work, self.offers
        if work is None or offers is None:
            return
        offer = offers.current
        if offer is None:
            self._bench.said.emit("This candidate is still being computed.")
            return
        mended = offer.mended
        work.peaks[mended.version.key] = max(work.peak, mended.peak)
        if self._bench.commit(work, mended.edit(f"{offers.method.name} at one place"), mended.version):
            self._bench.said.emit(f"Mended {format_count(len(mended.mends), 'place')}.")
            self._bench.focus_neighbour(1)

    def mend_all(self, findings: Sequence[Finding]) -> None:
        """Mend findings of one kind, each with its best candidate, as one step; other edits wait meanwhile."""
        work = self._bench.work
        method = method_for(findings[0].kind) if findings else None
        if work is None or method is None or self.job is not None:
            return
        version, listing = work.version, work.listing()

        def mend(job: Job) -> Mended:
            places = [Place.of(finding) for finding in findings]
            damage = [Place.of(finding) for finding in listing.open_findings(findings[0].kind)]
            mended = apply_method(version, method, {}, places, damage, job.report, job.is_cancelled)
            work.measure_peak(mended.version)
            return mended

        work.held = "Mending all alike is under way (Esc stops it); other edits wait."
        self.job = self._bench.jobs.start(f"mending {len(findings)}", mend, lambda done: self._write(work, done))
        self.job.progressed.connect(self.progressed)
        self.job.failed.connect(self._bench.failed)
        self.job.cancelled.connect(lambda: self._bench.said.emit("Mending stopped; nothing was changed."))
        self.job.ended.connect(lambda: self._ended(work))
        self.changed.emit()

    def _write(self, work: Work, mended: Mended) -> None:
        """Put many mends on the disk, which may take a second, and apply them then."""
        method = mended.mends[0].method
        edit = mended.edit(f"{method} {format_count(len(mended.mends), 'place')}")
        self._writing = self._bench.commit_behind(work, edit, mended.version, lambda made: self._all_mended(work, made))
        self._writing.ended.connect(self._written)

    def _written(self) -> None:
        self._writing = None
        self.changed.emit()

    def stop(self) -> None:
        """Stop mending all alike."""
        if self.job:
            self.job.cancel()

    def reason_not_to_mend(self) -> str:
        """Return why the finding in focus cannot be mended now, or nothing."""
        work = self._bench.work
        if work is None or work.focus is None:
            return "Choose a finding first (N goes to the next)."
        state = work.state_of(work.focus)
        if state is not State.OPEN:
            return f"This finding is {state.value} already; undo to change that."
        if method_for(work.focus.kind) is None:
            return f"There is no method yet for {KINDS[work.focus.kind].title.lower()}."
        return work.held

    def _all_mended(self, work: Work, edit: Edit) -> None:
        count = format_count(len(edit.made), "place")
        gain_db = work.fitting_gain_db
        peak = format_db(amplitude_to_db(work.peak))
        level = f" Peaks reach {peak}; saving offers to lower all by {format_lowering(gain_db)}." if gain_db < 0 else ""
        self._bench.said.emit(f"Mended {count}.{level}")

    def _ended(self, work: Work) -> None:
        self.job = None
        if self._writing is None:
            work.held = ""
        self.changed.emit()

    def _refresh(self) -> None:
        """Offer candidates for the finding in focus, unless they are on offer already."""
        work = self._bench.work
        finding = work.focus if work else None
        method = method_for(finding.kind) if finding else None
        if work is None or finding is None or method is None or work.state_of(finding) is not State.OPEN:
            if self.offers is not None:
                self._cancel_offering()
                self.offers = None
                self.offers_changed.emit()
            return
        if self.offers and self.offers.finding is finding and self.offers.version.key == work.version.key:
            return
        self._cancel_offering()
        offers = Offers(finding, work.version, method, [None] * len(method.candidates))
        damage = [Place.of(other) for other in work.listing().open_near(finding, _NEAR_SECONDS * work.rate)]
        offers.chosen = _best(work, finding, damage, method)
        self.offers = offers
        self._offering = self._bench.jobs.start(
            "candidates",
            lambda job: _compute(job, work, offers, damage),
            lambda _: None,
            lambda came: self._offered(offers, *came),
        )
        self._offering.failed.connect(self._bench.failed)
        self.offers_changed.emit()

    def _cancel_offering(self) -> None:
        if self._offering:
            self._offering.cancel()
            self._offering = None

    def _offered(self, offers: Offers, index: int, offer: Offer) -> None:
        if offers is self.offers:
            offers.offers[index] = offer
            self.offers_changed.emit()


def _best(work: Work, finding: Finding, damage: list[Place], method: Method) -> int:
    """Return which candidate the method itself would choose here."""
    context = round(method.context_seconds * work.rate)
    start, stop = max(0, finding.start - context), min(work.frames, finding.stop + context)
    mask = mask_of([*damage, Place.of(finding)], start, stop, work.channels)
    return method.prefer(mask[:, list(finding.channels)])


def _compute(job: Job, work: Work, offers: Offers, damage: list[Place]) -> None:
    """Compute the quick candidates first, so that something is seen at once."""
    finding, version = offers.finding, offers.version
    start, stop = max(0, finding.start - PICTURE_MARGIN), min(version.frames, finding.stop + PICTURE_MARGIN)
    channel = finding.channels[0]
    before = version.read(start, stop)[:, channel]
    for index in reversed(range(len(offers.method.candidates))):
        candidate = offers.method.candidates[index]
        mended = apply_method(
            version,
            offers.method,
            candidate.settings,
            [Place.of(finding)],
            damage,
            is_cancelled=job.is_cancelled,
            workers=1,
        )
        if job.is_cancelled():
            raise CancelledError
        after = mended.version.read(start, stop)[:, channel]
        span = mended.version.read(finding.start, finding.stop)[:, list(finding.channels)]
        offer: Any = Offer(candidate, mended, float(np.abs(span).max()), before, after)
        job.came.emit((index, offer))
