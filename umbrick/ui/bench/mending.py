"""Candidates for the finding in focus, and mending: one finding, or all alike."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QObject, Signal

from umbrick.core.areas.area import Area
from umbrick.core.course.for_kinds import laid_for
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.linking.filling import LONGEST_SECONDS, filled_from_lanes
from umbrick.core.mend.applying import Mended
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import Outcome, Plan, Refused, applied, run
from umbrick.core.mend.registry import method_named
from umbrick.core.mend.remedies import (
    Adjustment,
    Remedy,
    is_mendable,
    remedies,
    remedies_of_area,
    remedies_of_selection,
)
from umbrick.core.mend.trust import TrustBand, trust_band
from umbrick.core.sound.source import Samples
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.history import Edit, LengthHeldError
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, format_count, format_db, format_lowering
from umbrick.core.view.frequency_scale import FrequencyScale, Spacing
from umbrick.core.view.spectrogram import Levels, Look, level_columns
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.work.linked import JointMend, LinkedSet
from umbrick.work.selection import SelectedArea
from umbrick.work.settled import told_of
from umbrick.work.work import Work

PICTURE_MARGIN = 12
PICTURE_RANGE_DB = -105.0, -30.0
_PICTURE_SIZE, _PICTURE_BESIDE_HZ = (220, 54), 150.0
_MOST_BANDS = 24
_FILLED = ("click", "mouth_click", "crackle", "dropout", "discontinuity", "clipping")
"""Kinds of finding that linked recordings may have intact."""

_NEAR_SECONDS = 7
"""Damage further away than this is of no use to any method's context."""


@dataclass(frozen=True, eq=False)
class Offer:
    """A candidate as computed: the version it would give, its peak, and samples for a small picture."""

    mended: Mended
    peak: float
    before: npt.NDArray[np.float32]
    after: npt.NDArray[np.float32]
    channel: int = 0
    """The one that is pictured."""
    trust: tuple[TrustBand, ...] = ()
    """Of that channel, for each run of rebuilt frames."""
    nature: Nature = Nature.REBUILT
    """What the mend makes of the samples."""
    levels: Levels | None = None
    """Of an area: its spectrogram as it would be, for the picture."""
    joint: JointMend | None = None
    """Of linked recordings, where it changes the time: what it does to all of them."""

    @property
    def score(self) -> float | None:
        """The seam score, the least where there are several."""
        return min((mend.seam_score for mend in self.mended.mends if mend.seam_score is not None), default=None)

    @property
    def shift(self) -> int:
        """By how many frames the recording becomes longer."""
        return sum(mend.time_shift for mend in self.mended.mends)


@dataclass(frozen=True)
class Refusal:
    """A candidate that cannot be made here, and why."""

    reason: str


@dataclass
class Offers:
    """What is offered for a finding, or for a selected place, in one version, best first; ``offers`` fill up."""

    subject: Finding | Place
    version: Version
    remedies: list[Remedy] = field(default_factory=list)
    is_nothing_left: bool = False
    """Whether it was found that nothing is to be done: a mend made elsewhere has put it right."""
    offers: list[Offer | Refusal | None] = field(default_factory=list)
    chosen: int = 0
    is_chosen: bool = False
    """Whether a person chose it."""
    preferred: str = ""
    """The title of the mend that comes first, if one was chosen in a rehearsal."""
    adjusted: Adjustment | None = None
    """The settings that hold for all of its kind."""
    area: SelectedArea | None = None
    """What is selected in time and frequency, if the place is that of an area."""
    work: Work | None = None
    """The recording, where it is linked: the other lanes then have their say."""
    linked: LinkedSet | None = None
    holds_length: bool = False

    @property
    def chosen_remedy(self) -> Remedy | None:
        """What the chosen candidate is made by."""
        return self.remedies[self.chosen] if self.chosen < len(self.remedies) else None

    @property
    def is_better_left(self) -> bool:
        """Whether no candidate can be expected to better things, and none was chosen all the same."""
        return not self.is_chosen and any(not remedy.is_advised for remedy in self.remedies[:1])

    @property
    def current(self) -> Offer | None:
        """The chosen candidate, if it has been computed."""
        offer = self.offers[self.chosen] if self.chosen < len(self.offers) else None
        return offer if isinstance(offer, Offer) else None


class Mending(QObject):
    """Computes candidates in the background, newest request first, and applies what is chosen."""

    offers_changed = Signal()
    asked = Signal()
    """Mends for what is selected are wanted."""
    changed = Signal()
    """Mending all alike has begun or ended."""
    progressed = Signal(float)

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.offers: Offers | None = None
        self.job: Job | None = None
        self.shows_settings = False
        """Whether the settings of the chosen candidate are shown."""
        self._stopping = threading.Event()
        self._offering: Job | None = None
        self._writing: Job | None = None
        bench.focus_changed.connect(self._refresh)
        bench.edited.connect(self._refresh)
        bench.findings_changed.connect(self._refresh)
        bench.recording_changed.connect(self._refresh)
        bench.place_changed.connect(self._refresh)

    def offer_in(self, work: Work) -> Offer | None:
        """Return the chosen candidate, if it has been computed and is one for a recording as it stands now."""
        offers = self.offers
        return offers.current if offers and offers.version.key == work.version.key else None

    def choose(self, index: int) -> None:
        """Choose a candidate, counted from 0: strips and loop show it."""
        if (
            self.offers
            and index < len(self.offers.offers)
            and (index, True) != (self.offers.chosen, self.offers.is_chosen)
        ):
            self.offers.chosen, self.offers.is_chosen = index, True
            self.offers_changed.emit()

    @property
    def place(self) -> Place | None:
        """The selected place that mends are offered for, if it is not a finding they are for."""
        subject = self.offers.subject if self.offers else None
        return subject if isinstance(subject, Place) else None

    def offer_for_selection(self) -> None:
        """Offer mends for what is selected, though nothing was found there."""
        work = self._bench.work
        place = work.place() if work and work.selection else None
        if work is not None and place is not None:
            self._bench.focus(None)
            self._offer(work, place)
            self.asked.emit()

    def offer_for_area(self) -> None:
        """Offer mends for the area that is selected."""
        work = self._bench.work
        if work is not None and work.area is not None:
            placed = work.area.placed(work.frames, work.rate)
            self._bench.focus(None)
            self._offer(work, Place(placed.start, placed.stop, work.area.channels), work.area)
            self.asked.emit()

    def mend(self) -> None:
        """Mend what is offered for with the chosen candidate, with all that is chosen beside it, and go on."""
        work, offers = self._bench.work, self.offers
        if work is None or offers is None:
            return
        if offers.is_better_left:
            self._bench.said.emit("Better left as it is (K keeps it). To mend it all the same, choose a candidate.")
            return
        if isinstance(offers.subject, Finding) and len(together := work.open_chosen()) > 1:
            self.mend_all(together, goes_on=True)
            return
        offer = offers.current
        if offer is None:
            chosen = offers.offers[offers.chosen] if offers.offers else None
            reason = chosen.reason if isinstance(chosen, Refusal) else "This candidate is still being computed."
            self._bench.said.emit(reason)
            return
        mended = offer.mended
        work.note_peak(mended.version, max(work.peak, mended.peak))
        if offer.joint is not None:
            self._mend_in_all(offers, offer.joint, mended.mends[0].method)
        elif self._bench.commit(work, mended.edit(f"{mended.mends[0].method} at one place"), mended.version):
            self._bench.said.emit(f"Mended {format_count(len(mended.mends), 'place')}.")
            if isinstance(offers.subject, Finding):
                self._bench.go_on()

    def _mend_in_all(self, offers: Offers, joint: JointMend, method: str) -> None:
        linked = offers.linked
        if linked is not None and self._bench.commit_parts(linked.parts_of(joint, f"{method} in all lanes")):
            self._bench.said.emit(f"Done at the same place in {format_count(len(joint.lanes), 'lane')}.")
            if isinstance(offers.subject, Finding):
                self._bench.go_on()

    def kin_of(self, kind: str, work: Work) -> list[str]:
        """Return the other kinds of a kind's family that are open and can be mended."""
        return [
            other.name
            for other in KINDS.values()
            if other.family is KINDS[kind].family
            and other.name != kind
            and is_mendable(other.name)
            and work.listing().open_findings(other.name)
        ]

    def preferred(self, work: Work) -> dict[str, str]:
        """Return for kinds the title of the mend that comes first: what is chosen now, was adjusted, or rehearsed."""
        preferred = {**work.preferred} | {kind: adjusted.title for kind, adjusted in work.adjusted.items()}
        offers = self.offers
        if offers and isinstance(offers.subject, Finding) and (remedy := offers.chosen_remedy):
            kind = offers.subject.kind
            is_unusual = offers.chosen > 0 or not remedy.is_advised
            if (is_unusual and not offers.is_better_left) or kind in work.adjusted:
                preferred[kind] = remedy.title
        return preferred

    def _settled(self, work: Work) -> dict[str, Adjustment]:
        """Return for kinds the settings that hold for all of it: adjusted, or of what is chosen and the recording's."""
        settled, offers = dict(work.adjusted), self.offers
        remedy = offers.chosen_remedy if offers else None
        if offers and remedy and remedy.is_of_recording and isinstance(offers.subject, Finding):
            settled[offers.subject.kind] = remedy.adjustment
        return settled

    def adjust(self, settings: Parameters) -> None:
        """Compute the chosen candidate again with other settings, which hold for others of its kind from now on."""
        work, offers = self._bench.work, self.offers
        remedy = offers.chosen_remedy if offers else None
        if work is None or offers is None or remedy is None:
            return
        remedy = remedy.adjusted(settings)
        if isinstance(offers.subject, Finding):
            offers.adjusted = remedy.adjustment if remedy.is_adjusted else None
            kind, standing = offers.subject.kind, work.history.standing
            adjusted = {name: told for name, told in standing.adjusted.items() if name != kind}
            if offers.adjusted is not None:
                adjusted[kind] = told_of(offers.adjusted)
            if not self._bench.decide(work, f"settings for {kind}", replace(standing, adjusted=adjusted)):
                return
        offers.remedies[offers.chosen], offers.offers[offers.chosen] = remedy, None
        self._cancel_offering()
        left = [index for index, offer in enumerate(offers.offers) if offer is None]
        asked = replace(offers, remedies=list(offers.remedies))
        self._compute(work, offers, lambda job, near: _fill(job, asked, left, near))

    def set_shows_settings(self, shows: bool) -> None:
        """Show the settings of the chosen candidate, or do not."""
        self.shows_settings = shows
        self.changed.emit()

    def reason_not_to_adjust(self) -> str:
        """Return why the chosen candidate's settings cannot be changed now, or nothing."""
        if self.offers is None or self.offers.chosen_remedy is None:
            return "Choose a finding first, and one of its candidates."
        return "" if self.offers.chosen_remedy.method.parameters else "This method has no settings."

    def mend_all(self, findings: Sequence[Finding], goes_on: bool = False) -> None:
        """Mend findings, each with its kind's chosen or else its best candidate, as one step; other edits wait.

        With ``goes_on`` one goes to the next that is open then.
        """
        work = self._bench.work
        if work is None or not any(is_mendable(finding.kind) for finding in findings) or self.job is not None:
            return
        self._stopping = stopping = threading.Event()
        version, known = work.version, work.listing().open_findings()
        preferred, settled = self.preferred(work), self._settled(work)

        plan = Plan(tuple(findings), preferred, settled)

        def mend(job: Job) -> Outcome:
            done = run(version, plan, known, job.report, stopping.is_set)
            if done.stages:
                work.measure_peak(done.version)
            return done

        lease = work.leases.take("Mending all alike is under way (Esc stops it); other edits wait.")

        def ended() -> None:
            lease.release()
            self._ended()

        self.job = self._bench.jobs.start(
            f"mending {len(findings)}",
            mend,
            lambda done: self._write(work, done, goes_on),
            ended=ended,
        )
        self.job.progressed.connect(self.progressed)
        self.job.cancelled.connect(lambda: self._bench.said.emit("Mending stopped; nothing was changed."))
        self.changed.emit()

    def _write(self, work: Work, done: Outcome, goes_on: bool) -> None:
        """Put many mends on the disk, which may take a second, and apply them then."""
        if not done.stages:
            why = done.refused[0].why if done.refused else "a mend would hardly gain"
            self._bench.said.emit(f"Nothing was mended: {why}")
            return
        methods = " and ".join(dict.fromkeys(mend.method for mend in done.mends))
        edit = done.edit(f"{methods} {format_count(len(done.mends), 'place')}")
        self._writing = self._bench.commit_behind(
            work, edit, done.version, lambda made: self._all_mended(work, made, done.refused, goes_on)
        )
        self._writing.ended.connect(self._written)

    def _written(self) -> None:
        self._writing = None
        self.changed.emit()

    def stop(self) -> None:
        """Stop mending all alike; what is done by then stays."""
        if self.job:
            self._stopping.set()

    def reason_not_to_mend(self) -> str:
        """Return why the finding in focus, or the selected place, cannot be mended now, or nothing."""
        work = self._bench.work
        if work is not None and self.place is not None:
            return work.held
        if work is None or work.focus is None:
            return "Choose a finding first (N goes to the next)."
        state = work.state_of(work.focus)
        if state is not State.OPEN:
            return f"This finding is {state.value} already; undo to change that."
        if not is_mendable(work.focus.kind):
            return why_not_mended(work.focus)
        if self.offers is not None and self.offers.is_nothing_left:
            return "Nothing is left to mend here. K keeps it as it is; F5 surveys again."
        return work.held

    def _all_mended(self, work: Work, edit: Edit, refused: Sequence[Refused], goes_on: bool) -> None:
        if goes_on and work is self._bench.work:
            self._bench.focus_neighbour(1)
        count = format_count(len(edit.made), "place")
        if self._stopping.is_set():
            count = f"{count}, then stopped; undo takes them back"
        gain_db = work.fitting_gain_db
        peak = format_db(amplitude_to_db(work.peak))
        level = f" Peaks reach {peak}; saving offers to lower all by {format_lowering(gain_db)}." if gain_db < 0 else ""
        left = f" {format_count(len(refused), 'place')} left open: {refused[0].why.message}" if refused else ""
        self._bench.said.emit(f"Mended {count}.{left}{level}")

    def _ended(self) -> None:
        self.job = None
        self.changed.emit()

    def _refresh(self) -> None:
        """Offer candidates for the finding in focus, unless they are on offer already."""
        work = self._bench.work
        finding = work.focus if work else None
        if work is not None and finding is None and self._is_offered_for_selection(work):
            return
        if work is None or finding is None or not is_mendable(finding.kind) or work.state_of(finding) is not State.OPEN:
            if self.offers is not None:
                self._cancel_offering()
                self.offers = None
                self.offers_changed.emit()
            return
        if (
            self.offers
            and self.offers.subject is finding
            and self.offers.version.key == work.version.key
            and self.offers.holds_length == work.history.holds_length
            and self.offers.preferred == work.preferred.get(finding.kind, "")
            and self.offers.adjusted == work.adjusted.get(finding.kind)
        ):
            return
        self._offer(work, finding)

    def _is_offered_for_selection(self, work: Work) -> bool:
        """Whether what is on offer is for what is selected, as it stands now."""
        offers, place = self.offers, self.place
        if offers is not None and offers.area is not None:
            return offers.version is work.version and work.area == offers.area
        return offers is not None and place is not None and offers.version is work.version and work.place() == place

    def _offer(self, work: Work, subject: Finding | Place, area: SelectedArea | None = None) -> None:
        """Have mends for a finding, a place or an area computed."""
        self._cancel_offering()
        preferred = work.preferred.get(subject.kind, "") if isinstance(subject, Finding) else ""
        adjusted = work.adjusted.get(subject.kind) if isinstance(subject, Finding) else None
        linked = self._bench.set_of(work)
        offers = self.offers = Offers(
            subject, work.version, preferred=preferred, adjusted=adjusted, area=area,
            work=work if linked else None, linked=linked, holds_length=work.history.holds_length,
        )  # fmt: skip
        self._compute(work, offers, lambda job, near: _offered(job, offers, near, adjusted))

    def _compute(self, work: Work, offers: Offers, compute: Callable[[Job, list[Finding]], None]) -> None:
        near = work.listing().open_near(offers.subject, _NEAR_SECONDS * work.rate)
        self._offering = self._bench.jobs.start(
            "candidates",
            lambda job: compute(job, near),
            lambda _: None,
            lambda came: self._came(offers, came),
        )
        self.offers_changed.emit()

    def _cancel_offering(self) -> None:
        if self._offering:
            self._offering.cancel()
            self._offering = None

    def _came(self, offers: Offers, came: list[Remedy] | tuple[int, Offer | Refusal]) -> None:
        if offers is not self.offers:
            return
        if isinstance(came, list):
            offers.remedies, offers.offers = came, [None] * len(came)
            offers.is_nothing_left = not came
            offers.chosen = next((index for index, remedy in enumerate(came) if remedy.is_adjusted), 0)
        else:
            index, offer = came
            offers.offers[index] = offer
            if isinstance(offers.offers[offers.chosen], Refusal):
                made = (number for number, other in enumerate(offers.offers) if isinstance(other, Offer))
                offers.chosen = next(made, offers.chosen)
        self.offers_changed.emit()


def _offered(job: Job, offers: Offers, near: Sequence[Finding], adjusted: Adjustment | None) -> None:
    """Find out what is to be offered, and compute it."""
    subject, version = offers.subject, offers.version
    if isinstance(subject, Finding):
        found = [remedy.adjusted_as(adjusted) for remedy in remedies(subject, version, offers.preferred)]
    elif offers.area is not None:
        found = remedies_of_area(subject, offers.area.placed(version.frames, version.rate).area)
    else:
        found = remedies_of_selection(subject, version)
    if offers.linked is not None and (remedy := _from_lanes(subject, version)) is not None:
        found = [remedy, *found]
    job.came.emit(found)
    _fill(job, replace(offers, remedies=found), range(len(found)), near)


def _fill(job: Job, offers: Offers, wanted: Iterable[int], near: Sequence[Finding]) -> None:
    """Compute some of what is offered, the quick candidates first, so that something is seen at once."""
    subject, version, found = offers.subject, offers.version, offers.remedies
    start, stop = max(0, subject.start - PICTURE_MARGIN), min(version.frames, subject.stop + PICTURE_MARGIN)
    channel = subject.channels[0]
    before = version.read(start, stop)[:, channel]
    for index in sorted(wanted, key=lambda index: (found[index].effort, index)):
        try:
            mended, joint = _made(offers, found[index], near, job.is_cancelled)
            if offers.holds_length and mended.change.time_shift:
                raise LengthHeldError(mended.change.time_shift)
        except (ParameterError, LengthHeldError) as error:
            job.came.emit((index, Refusal(str(error))))
            continue
        if job.is_cancelled():
            raise CancelledError
        after = _within(mended.version, start, stop)[:, channel]
        span = _within(mended.version, subject.start, subject.stop)[:, list(subject.channels)]
        peak = float(np.abs(span).max()) if span.size else 0.0
        nature = found[index].method.nature
        # What is just louder or quieter than before is known as well as before.
        trust = () if nature is Nature.RELEVELLED else _trust(mended, channel)
        levels = _levels(mended.version, offers.area.area, channel) if offers.area is not None else None
        offer: Any = Offer(mended, peak, before, after, channel, trust, nature, levels, joint)
        job.came.emit((index, offer))


def _from_lanes(subject: Finding | Place, version: Version) -> Remedy | None:
    """Return the mend that fills a place from linked recordings, where that makes sense."""
    if isinstance(subject, Finding) and subject.kind not in _FILLED:
        return None
    if subject.stop - subject.start > LONGEST_SECONDS * version.rate:
        return None
    place = Place.of(subject) if isinstance(subject, Finding) else subject
    words = "the same moment as the linked recordings heard it"
    return Remedy("From the other lanes", words, method_named("bridge"), {}, place, 1, is_from_lanes=True)


def _made(
    offers: Offers, remedy: Remedy, near: Sequence[Finding], is_cancelled: Callable[[], bool]
) -> tuple[Mended, JointMend | None]:
    """Return a remedy applied; of linked recordings, what changes the time as it is done in all of them."""
    linked, work = offers.linked, offers.work
    if linked is None or work is None:
        return applied(offers.version, remedy, near, is_cancelled), None
    if remedy.is_from_lanes:
        place = remedy.place
        stack, _ = linked.stack_of_those_there(work, place)
        mended = filled_from_lanes(stack, place.start, place.stop, place.channels, is_cancelled)
        named = tuple(replace(mend, finding_ids=place.finding_ids) for mend in mended.mends)
        return mended._replace(mends=named), None
    alone = applied(offers.version, remedy, near, is_cancelled)
    if not alone.change.moves:
        return alone, None
    joint = linked.made_in_all(work, remedy, is_cancelled)
    return joint.mended[0], joint


def _levels(version: Version, area: Area, channel: int) -> Levels:
    """Return a small spectrogram of an area and what is around it."""
    start, stop, low, high = area.extent
    beside, above = 0.1 * (stop - start), 0.25 * (high - low) + _PICTURE_BESIDE_HZ
    columns, rows = _PICTURE_SIZE
    top = version.rate / 2
    scale = FrequencyScale(
        Spacing.LINEAR, top, max(0.0, (low - above) / top), min(1.0, (high * area.harmonics + above) / top)
    )
    step = (stop - start + 2 * beside) / columns
    return level_columns(version, channel, start - beside, step, columns, Look(scale, rows))


def _within(version: Version, start: int, stop: int) -> Samples:
    """Return what a version has of a span: a mend that closes up may leave less than there was."""
    return version.read(min(start, version.frames), min(stop, version.frames))


def _trust(mended: Mended, channel: int) -> tuple[TrustBand, ...]:
    """Return how far the rebuilt samples of a channel may be from the truth, of so many runs as can be looked at."""
    change = mended.change
    if change.moves:
        return ()
    spans = zip(change.starts[:_MOST_BANDS].tolist(), change.stops[:_MOST_BANDS].tolist(), strict=True)
    bands = (trust_band(mended.version, start, stop, channel) for start, stop in spans)
    return tuple(band for band in bands if band is not None)


def why_not_mended(finding: Finding) -> str:
    """Return why a finding is not mended at its place, and what is done instead."""
    title, laid = KINDS[finding.kind].title, laid_for(finding)
    if laid is None:
        return f"There is no method yet for {title.lower()}."
    return f"{title}: taken out over all of the recording, not place by place (Alt+Enter)."
