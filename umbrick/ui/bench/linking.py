"""Linked recordings on the bench: putting them on one clock, going from lane to lane, acting in all of them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from PySide6.QtCore import Signal

from umbrick.casebook.joint import Part
from umbrick.core.errors import UmbrickError
from umbrick.core.linking.clock import Clock
from umbrick.core.linking.deviation import Ranking, rank
from umbrick.core.linking.steady import Steady
from umbrick.core.linking.together import align_all
from umbrick.core.mend.place import Place
from umbrick.core.sound.time_stamp import begins_at
from umbrick.core.survey.finding import SPANNING_KINDS, Finding
from umbrick.core.units import format_count, format_shift
from umbrick.core.view.window import Window
from umbrick.playback.programme import Beside
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.copies import CopyBeside, all_or_none, path_beside
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.work.linked import Lane, LinkedSet, write_links
from umbrick.work.selection import Selection
from umbrick.work.work import Work

_ALIGNING = 0.5
"""What share of the time finding out how recordings lie takes, where copies are written too."""


@dataclass(frozen=True)
class Ranked:
    """Lanes by how much they deviate at a place, in dB; ``is_clear`` tells whether the first stands out."""

    lanes: tuple[tuple[Lane, float], ...]
    is_clear: bool


class _Found(NamedTuple):
    """How a recording lies, or why that is not known; the copy that is linked in its place, if it needs one; and the
    rate of all lanes."""

    work: Work
    clock: Clock | None
    why: str
    copy: Path | None
    rate: int

    @property
    def clock_of_lane(self) -> Clock | None:
        """Its clock, counted at the rate of the lanes."""
        clock = self.clock
        faster = self.rate / clock.rate if clock else 1.0
        return clock and Clock(self.rate, clock.offset_frames * faster, clock.drift_ppm, clock.confidence)


class Linking(Task):
    """Links the open recordings, and acts on the lanes of the one that is current."""

    ranked_changed = Signal()
    """Lanes have been ranked, or the ranking is gone."""
    written = Signal(object, object)
    """Copies were written that are to be opened: their paths, and what to do then."""
    found = Signal()
    """The lane that deviates is current, and where it does so is selected."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.ranked: Ranked | None = None
        self.hears_all = False
        """Whether all lanes that are not muted are heard, not just the current one."""
        self.shows_lanes = True
        bench.lanes_changed.connect(self._forget_ranking)
        bench.edited.connect(self._forget_ranking)

    @property
    def linked(self) -> LinkedSet | None:
        """The set that the current recording is a lane of."""
        return self._bench.set_of(self._bench.work)

    @property
    def lane(self) -> Lane | None:
        """The current recording's lane."""
        work, linked = self._bench.work, self.linked
        return linked.lane_of(work) if linked and work else None

    # Putting recordings on one clock.

    def reason_not_to_link(self) -> str:
        """Return why the open recordings cannot be linked, or nothing."""
        first = self._bench.work
        if first is None or len(self._bench.works) < 2:
            return "Open at least two recordings of one event first (Ctrl+O)."
        if any(not work.history.is_in_place for work in self._bench.works):
            return "One of them has mends that change its time: undo or lift them off before linking."
        return "Recordings are being put on one clock already." if self.job else ""

    def link(self) -> None:
        """Find which open recordings are of the same event as the current one, how they lie, and link them to it.

        Of those of other rates copies are written, opened and linked: the lanes of a set have one rate. It is that of
        the current one, or of a video of the event, so that its sound can be put back into it.
        """
        current = self._bench.work
        if current is None:
            return
        works = [current, *(work for work in self._bench.works if work is not current and not self._has_copy(work))]
        named = [(work.recording.path.name, work.recording.source) for work in works]
        copies = [CopyBeside(work) for work in works]

        def run(job: Job) -> list[_Found]:
            share = _ALIGNING if len({work.rate for work in works}) > 1 else 1.0
            placed = align_all(named, lambda done: job.report(share * done), job.is_cancelled)
            clocks = [one.clock or _by_time_stamp(current, work) for work, one in zip(works, placed, strict=True)]
            there = [work for work, clock in zip(works, clocks, strict=True) if clock is not None]
            rate = next((work.rate for work in there if work.recording.track is not None), current.rate)
            found = []
            with all_or_none() as written:
                for work, copy, clock, one in zip(works, copies, clocks, placed, strict=True):
                    path = None
                    if clock is not None and len(there) > 1 and work.rate != rate:
                        path = copy.write(str(rate), rate=rate, is_cancelled=job.is_cancelled)
                        written.append(path)
                    found.append(_Found(work, clock, one.why, path, rate))
                    job.report(share + (1 - share) * len(found) / len(works))
            return found

        def done(found: list[_Found]) -> None:
            self.written.emit([one.copy for one in found if one.copy is not None], lambda: self._linked(found))

        self._run("putting recordings on one clock", run, done, "Linking stopped.")

    def _has_copy(self, work: Work) -> bool:
        """Whether a copy of a recording at the rate of another one is open, which is linked in its place."""
        rates = {other.rate for other in self._bench.works} - {work.rate}
        return any(self._bench.find_open(path_beside(work.home, str(rate))) is not None for rate in rates)

    def _linked(self, found: list[_Found]) -> None:
        on_clock = [(work, clock) for one in found if (work := self._lane_of(one)) and (clock := one.clock_of_lane)]
        if len(on_clock) < 2:
            self._bench.failed.emit(next((one.why for one in found if one.clock is None), "Nothing was linked."))
            return
        self._bench.show_work(on_clock[0][0])
        if self.link_as([work for work, _ in on_clock], [clock for _, clock in on_clock]):
            drifts = max(abs(clock.drift_ppm) for _, clock in on_clock)
            told = f" Clocks drift by up to {drifts:.1f} ppm." if drifts >= 0.1 else ""
            if copied := [one.work.name for one in found if one.copy is not None]:
                told += f" Of {', '.join(copied)} copies at {found[0].rate} Hz are linked."
            names = ", ".join(
                work.name if clock.confidence else f"{work.name} (by its time stamp)" for work, clock in on_clock
            )
            self._bench.said.emit(f"{format_count(len(on_clock), 'recording')} are on one clock: {names}.{told}")

    def _lane_of(self, found: _Found) -> Work | None:
        return found.work if found.copy is None else self._bench.find_open(found.copy)

    def link_as(self, works: list[Work], clocks: list[Clock]) -> bool:
        """Write that recordings are lanes of a set, each with its clock; whether that could be done."""
        numbers = [link.number for work in self._bench.works if (link := work.shelf.link(work.rate)) is not None]
        try:
            write_links(works, clocks, max(numbers, default=0) + 1)
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
            return False
        self._bench.find_sets()
        return True

    def unlink(self) -> None:
        """Have the recordings of the set be recordings of their own again."""
        linked = self.linked
        if linked is None:
            return
        try:
            for lane in linked.lanes:
                lane.work.shelf.write_link(None)
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
        self._bench.find_sets()
        self._bench.said.emit("Unlinked: each is a recording of its own again.")

    def reason_not_to_shift(self, lane: Lane | None = None) -> str:
        """Return why the offset of a lane, or of the current one, cannot be set, or nothing."""
        linked, lane = self.linked, lane or self.lane
        if linked is None or lane is None:
            return self.reason_without_set()
        if lane is linked.lanes[0]:
            return "The first recording is the clock of the others: it has no offset."
        moved = any(not one.work.history.is_in_place for one in linked.lanes)
        return "The time of the lanes was changed by mends: undo or lift them off first." if moved else ""

    def set_offset(self, frames: float, lane: Lane | None = None) -> None:
        """Lay a lane, or the current one, so that it starts that many of its frames before the first one."""
        linked, lane = self.linked, lane or self.lane
        if linked is None or lane is None:
            return
        clock = Clock(lane.clock.rate, frames, lane.clock.drift_ppm, 1.0)
        clocks = [clock if one is lane else one.clock for one in linked.lanes]
        if self.link_as([one.work for one in linked.lanes], clocks):
            self._bench.said.emit(f"{lane.work.name} starts {frames:g} frames before the first one.")

    # Going from lane to lane.

    def reason_not_to_steady(self) -> str:
        """Return why the current lane's drift cannot be taken out, or nothing."""
        lane = self.lane
        if lane is None:
            return self.reason_without_set()
        if not lane.clock.drift_ppm:
            return "The clock of this lane does not drift against the first."
        return "Something is being done with the lanes already." if self.job else ""

    def take_drift_out(self) -> None:
        """Write a copy of the current lane that runs on the set's clock, and open it: the drifting one stays."""
        lane = self.lane
        if lane is None:
            return
        drift = lane.clock.drift_ppm
        copy = CopyBeside(lane.work, Steady(lane.work.outcome, drift))

        def run(job: Job) -> Path:
            return copy.write("on-clock", progress=job.report, is_cancelled=job.is_cancelled)

        def done(made: Path) -> None:
            self._bench.said.emit(f"{made.name} has no drift ({drift:+.2f} ppm taken out): link it instead.")
            self.written.emit([made], lambda: None)

        self._run("taking the drift out", run, done, "Stopped; nothing was written.")

    def reason_without_set(self) -> str:
        """Return why nothing can be done with lanes now, or nothing."""
        if self._bench.work is None:
            return "Open a recording first (Ctrl+O)."
        return "" if self.linked else "This recording is not linked; open others of the same event and link them."

    def go_to(self, lane: Lane, place: Place | None = None) -> None:
        """Make another lane the current one, looking at the same moment; ``place`` is what to select in it."""
        work, linked = self._bench.work, self.linked
        if work is None or linked is None:
            return
        other = lane.work
        if other is not work:
            frames = other.frames

            def there(frame: float) -> int:
                return min(max(0, linked.place_in(lane, work, round(frame))), frames)

            shift = linked.place_in(lane, work, round(work.passage.start)) - round(work.passage.start)
            other.passage = Window(work.passage.start + shift, work.passage.stop + shift).within(frames)
            other.loupe = Window(work.loupe.start + shift, work.loupe.stop + shift).within(frames)
            other.cursor = there(work.cursor)
            if place is None and work.selection is not None:
                start, stop = there(work.selection.start), there(work.selection.stop)
                other.selection = Selection(start, stop, other.selected_channels) if start < stop else None
            self._bench.show_work(other)
        if place is not None:
            self._bench.select(place.start, place.stop)
            self._bench.look_at(place.start, place.stop, place.channels[0])

    def step_lane(self, step: int) -> None:
        """Go to the next (1) or previous (−1) lane."""
        linked, lane = self.linked, self.lane
        if linked is not None and lane is not None:
            self.go_to(linked.lanes[(linked.lanes.index(lane) + step) % len(linked.lanes)])

    def next_fault(self) -> None:
        """Go to the next open finding of whichever lane, in the order of the set's time."""
        work, linked, lane = self._bench.work, self.linked, self.lane
        if work is None or linked is None or lane is None:
            return
        found: list[tuple[float, int, Lane, Finding]] = []
        for number, one in enumerate(linked.lanes):
            found += [
                (linked.place_in(lane, one.work, finding.start), number, one, finding)
                for finding in one.work.listing().open_findings()
                if finding.kind not in SPANNING_KINDS
            ]
        if not found:
            self._bench.said.emit("There is no open finding in any lane: survey them first (F5).")
            return
        here = work.cursor, linked.lanes.index(lane)
        found.sort(key=lambda entry: entry[:2])
        focus = work.focus
        _, _, other, finding = next(
            (
                entry
                for entry in found
                if entry[:2] >= here and (focus is None or entry[3].id != focus.id or entry[2] is not lane)
            ),
            found[0],
        )
        self.go_to(other)
        self._bench.focus(finding)

    # What is heard.

    def audible(self, linked: LinkedSet) -> list[Lane]:
        """Return the lanes that are heard now."""
        if solo := [lane for lane in linked.lanes if lane.is_solo]:
            return solo
        if self.hears_all:
            return [lane for lane in linked.lanes if not lane.is_muted]
        return [lane for lane in linked.lanes if lane.work is self._bench.work]

    def mix_for(self, work: Work) -> tuple[float, tuple[Beside, ...]]:
        """Return how loud the current recording is heard, and what is heard beside it."""
        linked = self._bench.set_of(work)
        if linked is None:
            return 1.0, ()
        heard = self.audible(linked)
        own = linked.lane_of(work)
        beside = [
            Beside(
                lane.work.outcome,
                linked.place_in(lane, work, work.cursor) - work.cursor,
                _gain(lane),
            )
            for lane in heard
            if lane is not own
        ]
        return (_gain(own) if own in heard and own is not None else 0.0), tuple(beside)

    def set_hears_all(self) -> None:
        """Hear all lanes together, or just the current one."""
        self.hears_all = not self.hears_all
        self._bench.lanes_changed.emit()

    def toggle(self, lane: Lane, what: str) -> None:
        """Turn a lane's ``is_solo``, ``is_muted``, ``is_inverted`` or ``is_ticked`` over."""
        setattr(lane, what, not getattr(lane, what))
        self._bench.lanes_changed.emit()

    def set_gain(self, gain_db: float) -> None:
        """Have the current lane heard so much louder."""
        if (lane := self.lane) is not None:
            lane.gain_db = gain_db
            self._bench.lanes_changed.emit()

    def set_shows_lanes(self) -> None:
        """Show the other lanes below the Passage, or do not."""
        self.shows_lanes = not self.shows_lanes
        self.changed.emit()

    # Doing things in several lanes.

    def place(self) -> Place | None:
        """Return the place that is meant: what is selected, the finding in focus, or a moment around the cursor."""
        work = self._bench.work
        if work is None:
            return None
        if (place := work.place()) is not None:
            return place
        half = round(0.05 * work.rate)
        start, stop = max(0, work.cursor - half), min(work.frames, work.cursor + half)
        return Place(start, stop, tuple(range(work.channels))) if start < stop else None

    def which_one(self) -> None:
        """Rank the lanes by how much they deviate here from what the others foretell, and go to the first."""
        work, linked, place = self._bench.work, self.linked, self.place()
        if work is None or linked is None or place is None:
            return

        def run(job: Job) -> tuple[list[Lane], Ranking, tuple[int, int]]:
            stack, there = linked.stack_of_those_there(work, place)
            own = linked.lane_of(work)
            assert own is not None
            ranking = rank(stack, place.start - stack.start, place.stop - stack.start, job.is_cancelled)
            return [own, *there], ranking, (ranking.span[0] + stack.start, ranking.span[1] + stack.start)

        self._run("ranking the lanes", run, lambda found: self._tell_ranking(linked, work, *found), "")

    def _tell_ranking(
        self, linked: LinkedSet, work: Work, lanes: list[Lane], ranking: Ranking, span: tuple[int, int]
    ) -> None:
        ranked = tuple((lanes[one.lane], one.rise_db) for one in ranking.lanes)
        first, second = ranked[0], ranked[1]
        lane = first[0]
        start, stop = (linked.place_in(lane, work, at) for at in span)
        self.go_to(lane, Place(max(0, start), min(stop, lane.work.frames), (ranking.lanes[0].channel,)))
        self.found.emit()
        self.ranked = Ranked(ranked, ranking.is_clear)
        self.ranked_changed.emit()
        told = (
            f"{first[1]:+.0f} dB over what the others foretell; next is {second[0].work.name} with {second[1]:+.0f} dB."
        )
        clear = f"It is {lane.work.name}" if ranking.is_clear else f"Not clear: most likely {lane.work.name}"
        self._bench.said.emit(f"{clear}, {told}")

    def _forget_ranking(self) -> None:
        if self.ranked is not None:
            self.ranked = None
            self.ranked_changed.emit()

    def reason_not_to_carry(self) -> str:
        """Return why the last mend cannot be carried to the other lanes, or nothing."""
        if why := self.reason_without_set():
            return why
        work = self._bench.work
        latest = work.history.latest if work else None
        if latest is None or not latest.made:
            return "Mend something in this lane first."
        return "That is in all lanes already." if latest.step else ""

    def carry(self) -> None:
        """Do what was mended last in this lane at the same place of all other ticked lanes, as one step."""
        work, linked = self._bench.work, self.linked
        edit = work.history.latest if work else None
        if work is None or linked is None or edit is None:
            return

        def run(job: Job) -> list[Part]:
            return linked.carried_parts(work, edit, job.report)

        def done(parts: list[Part]) -> None:
            if made := self._bench.commit_parts(parts):
                wanted = sum(lane.is_ticked for lane in linked.others(work))
                left = f" {format_count(wanted - len(made), 'lane')} have no sound there." if wanted > len(made) else ""
                self._bench.said.emit(f"Carried to {format_count(len(made), 'lane')}.{left} One undo takes it back.")

        self._run("carrying to the other lanes", run, done, "Stopped; nothing was carried.")

    def holds_length(self) -> bool:
        """Whether the length of the current recording, or of its set, is held."""
        return bool(self._bench.work and self._bench.work.history.holds_length)

    def hold_length(self) -> None:
        """Have nothing change the length of the current recording and those linked to it, or let it change again."""
        work, linked = self._bench.work, self.linked
        if work is None:
            return
        holds = not work.history.holds_length
        try:
            for one in [lane.work for lane in linked.lanes] if linked else [work]:
                one.shelf.write_holds_length(one.history, holds)
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
            return
        debt = work.history.timing_debt
        owed = f" It is off by {format_shift(debt, work.rate)} already." if holds and debt else ""
        self._bench.said.emit(f"The length is held.{owed}" if holds else "The length may change again.")
        self._bench.lanes_changed.emit()
        self._bench.edited.emit()


def _by_time_stamp(first: Work, other: Work) -> Clock | None:
    """Return how a recording lies by the time stamps of both, if they have any and the recordings overlap by them."""
    began, begins = (begins_at(work.recording.path, work.recording.source.rate) for work in (first, other))
    if began is None or begins is None or other is first:
        return None
    faster = other.rate / first.rate
    offset = began * faster - begins
    overlaps = -first.frames * faster < offset < other.frames
    return Clock(other.rate, float(offset), 0.0, 0.0) if overlaps else None


def _gain(lane: Lane) -> float:
    return float(10 ** (lane.gain_db / 20)) * (-1.0 if lane.is_inverted else 1.0)
