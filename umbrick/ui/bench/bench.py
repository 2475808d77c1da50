"""The bench model: which recordings are open, what is looked at, and the signals that tell the widgets."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QGuiApplication

from umbrick.casebook.joint import Part, Written, commit_together, step_together, write_together
from umbrick.core.areas.area import Area
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import UmbrickError
from umbrick.core.paths import cache_folder
from umbrick.core.survey.finding import SPANNING_KINDS, Finding
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.marks import Standing, StandingTurn
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_count
from umbrick.core.view.window import Window
from umbrick.ui import settings
from umbrick.ui.bench.jobs import Job, Jobs
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.work.decisions import findings_of
from umbrick.work.leases import Leases
from umbrick.work.linked import LinkedSet, sets_of
from umbrick.work.selection import SelectedArea, Selection
from umbrick.work.sieve import Sieve
from umbrick.work.work import LOUPE_FRAMES, Work

SHORTEST_PASSAGE_SECONDS = 0.02
SHORTEST_LOUPE, LONGEST_LOUPE = 24, 4000
_KEEP_AFTER_MS = 800
"""How long a slider rests before where it was left is a step of the history."""


class Bench(QObject):
    """Holds the open recordings and changes them; every change is told once.

    Mending, surveying, listening and files have objects of their own beside this one, which use these signals too.
    """

    recording_changed = Signal()
    """Another recording is current, or none."""
    recordings_changed = Signal()
    lanes_changed = Signal()
    """Recordings were linked or unlinked, or a lane is ticked or listened to otherwise."""
    edited = Signal()
    """The history of the current recording has changed: its version, its course, or what was decided."""
    learned = Signal()
    """More is known of the current recording: of its picture, its highest sample, or whether a file holds it."""
    view_changed = Signal()
    """A strip's window has moved."""
    place_changed = Signal()
    """Cursor, selection or Loupe channel have changed."""
    chosen_changed = Signal()
    """Decisions mean other findings than before, or more of them."""
    findings_changed = Signal()
    focus_changed = Signal()
    said = Signal(str)
    """A sentence for the status line."""
    noticed = Signal(object)
    """A :class:`Notice` for the person."""
    failed = Signal(str)
    """Something could not be done; the sentence says why."""

    def __init__(self) -> None:
        super().__init__()
        self.jobs = Jobs()
        self.jobs.failed.connect(self.failed)
        self.jobs.fault.connect(self._tell_fault)
        self.tiles = Tiles(cache_folder() / "tiles", settings.tile_limit_bytes(), on_trouble=self.failed.emit)
        self.works: list[Work] = []
        self.sets: list[LinkedSet] = []
        """The linked recordings among them."""
        self.leases = Leases()
        """Those on every recording, also on what is opened meanwhile."""
        self.work: Work | None = None
        self._keep_tried = QTimer(self, singleShot=True, interval=_KEEP_AFTER_MS)
        self._keep_tried.timeout.connect(self.keep_sensitivity)
        self.worst_first = False
        """Whether the docket lists the worst findings of a kind first, not the earliest."""

    def _tell_fault(self, told: str, details: str) -> None:
        copy = Choice("Copy details", lambda: QGuiApplication.clipboard().setText(details))
        self.noticed.emit(Notice(f"{told} Your work is safe in the casebook.", (copy,)))

    def add(self, work: Work) -> None:
        """Put a newly opened recording on the bench and go to it."""
        work.leases.above = self.leases
        self.works.append(work)
        self.find_sets()
        self.recordings_changed.emit()
        self.show_work(work)

    def show_work(self, work: Work | None) -> None:
        """Make one of the open recordings the current one."""
        if work is not self.work:
            self.work = work
            self.recording_changed.emit()

    def remove(self, work: Work) -> None:
        """Take a recording off the bench; its file is let go of."""
        self.keep_sensitivity()
        index = self.works.index(work)
        self.works.remove(work)
        self.find_sets()
        if work is self.work:
            self.show_work(self.works[min(index, len(self.works) - 1)] if self.works else None)
        self.recordings_changed.emit()
        work.recording.close()

    def find_sets(self) -> None:
        """Look again which of the open recordings are linked."""
        had, self.sets = bool(self.sets), sets_of(self.works, self.sets)
        if had or self.sets:
            self.lanes_changed.emit()

    def set_of(self, work: Work | None) -> LinkedSet | None:
        """Return the set that a recording is a lane of, or None."""
        return next((one for one in self.sets if any(lane.work is work for lane in one.lanes)), None)

    def find_open(self, path: Path, track: int | None = None) -> Work | None:
        """Return the open recording that belongs in a file, if it is open; of a container, that of a track."""
        for work in self.works:
            own = work.recording.track
            if work.home.resolve() == path.resolve() and (track is None or own is None or own.number == track):
                return work
        return None

    def set_passage(self, window: Window) -> None:
        """Show another span in the Passage."""
        if self.work and window != self.work.passage:
            self.work.passage = window.within(self.work.frames)
            self.view_changed.emit()

    def set_loupe(self, window: Window) -> None:
        """Show another span in the Loupe."""
        if self.work and window != self.work.loupe:
            self.work.loupe = window.within(self.work.frames)
            self.view_changed.emit()

    def zoom_passage(self, factor: float, anchor: float) -> None:
        """Zoom the Passage about a frame; factors below 1 zoom in."""
        if work := self.work:
            shortest = SHORTEST_PASSAGE_SECONDS * work.rate
            self.set_passage(work.passage.zoomed(factor, anchor, shortest, work.frames))

    def zoom_loupe(self, factor: float, anchor: float) -> None:
        """Zoom the Loupe about a frame, from 24 to 4,000 samples."""
        if work := self.work:
            window = work.loupe.zoomed(factor, anchor, SHORTEST_LOUPE, work.frames)
            if window.length <= LONGEST_LOUPE or factor < 1:
                self.set_loupe(window)
            else:
                self.said.emit(f"The Loupe shows up to {LONGEST_LOUPE} samples; the Passage above shows more.")

    def set_cursor(self, frame: float, follow: bool = True) -> None:
        """Put the cursor on a frame; the Loupe goes there if it is to follow."""
        if work := self.work:
            work.cursor = min(max(0, round(frame)), work.frames)
            if follow:
                work.loupe = work.loupe.centred(work.cursor + 0.5, work.frames)
            self.place_changed.emit()
            self.view_changed.emit()

    def step_cursor(self, frames: int) -> None:
        """Move the cursor, keeping it in view."""
        if work := self.work:
            self.set_cursor(work.cursor + frames)
            self.set_passage(work.passage.showing(work.cursor, work.cursor + 1, work.frames, margin=0.02))

    def select(self, start: float, stop: float) -> None:
        """Select the span between two frames, in either order; an empty one clears the selection."""
        if work := self.work:
            first, last = sorted((round(start), round(stop)))
            first, last = max(0, first), min(work.frames, last)
            work.selection = Selection(first, last, work.selected_channels) if last > first else None
            work.area = None
            self.place_changed.emit()

    def select_area(self, area: Area | None) -> None:
        """Select an area in time and frequency, its frames counted from the version's start; None clears it."""
        if work := self.work:
            selected = SelectedArea(area, work.selected_channels) if area is not None else None
            work.area = None if selected is None or selected.is_empty else selected
            work.selection = None
            self.place_changed.emit()

    def select_channels(self, channels: tuple[int, ...]) -> None:
        """Have the selection mean just these channels."""
        if self.work:
            self.work.selected_channels = channels
            if self.work.selection is not None:
                self.work.selection = self.work.selection.on(channels)
            if len(channels) == 1:
                self.work.channel = channels[0]
            self.place_changed.emit()
            self.view_changed.emit()

    def set_channel(self, channel: int) -> None:
        """Show another channel in the Loupe."""
        if self.work and 0 <= channel < self.work.channels:
            self.work.channel = channel
            self.place_changed.emit()
            self.view_changed.emit()

    def set_sensitivity(self, kind: str, value: float) -> None:
        """Sift the findings of a kind anew; nothing is measured again."""
        if self.work:
            self.work.tried_sensitivity[kind] = value
            self._keep_tried.start()
            self.findings_changed.emit()

    def keep_sensitivity(self) -> None:
        """Put the sensitivities that were set in the histories of their recordings."""
        self._keep_tried.stop()
        for work in self.works:
            if not work.tried_sensitivity:
                continue
            if work.held:
                self._keep_tried.start()
                continue
            wanted, work.tried_sensitivity = work.sensitivity, {}
            standing = work.history.standing
            if wanted != standing.sensitivity:
                self.decide(work, "set the sensitivity", replace(standing, sensitivity=wanted))

    def decide(self, work: Work, title: str, standing: Standing) -> bool:
        """Have something hold for kinds of finding from now on; whether that could be written."""
        turn = StandingTurn(work.history.standing, standing)
        return self.commit(work, Edit(title, marks=(turn,)), work.version) is not None

    def set_worst_first(self, on: bool) -> None:
        """List the worst findings of each kind first, or the earliest."""
        self.worst_first = on
        self.findings_changed.emit()

    def set_sieve(self, text: str) -> None:
        """Show what fits a few typed words, and step through just that."""
        if self.work:
            self.work.sieve = Sieve.parsed(text)
            self.findings_changed.emit()

    def focus(self, finding: Finding | None, chosen: Sequence[Finding] = ()) -> None:
        """Look at a finding: the Passage and the Loupe go there; decisions mean all that are chosen with it."""
        work = self.work
        if work is None:
            return
        work.focus = finding
        work.chosen = list(chosen)
        if finding is not None:
            work.selection = work.area = None
            if finding.kind not in SPANNING_KINDS:
                self.look_at(finding.start, finding.stop, finding.channels[0])
        self.focus_changed.emit()

    def look_at(self, start: int, stop: int, channel: int) -> None:
        """Have the strips go to a span: the cursor to its start, the Loupe around it on a channel."""
        if work := self.work:
            work.cursor = start
            work.channel = channel
            shown = max(LOUPE_FRAMES, min(LONGEST_LOUPE, 5 * (stop - start)))
            middle = (start + stop) / 2
            work.loupe = Window(middle - shown / 2, middle + shown / 2).within(work.frames)
            work.passage = work.passage.showing(start, stop, work.frames)
            self.place_changed.emit()
            self.view_changed.emit()

    def choose(self, findings: Sequence[Finding]) -> None:
        """Have decisions mean all of some findings, that in focus among them."""
        if self.work:
            self.work.chosen = list(findings)
            self.chosen_changed.emit()

    def focus_neighbour(self, step: int, singly: bool = False) -> None:
        """Go to the next (1) or previous (−1) open finding, or group of findings unless ``singly``."""
        if work := self.work:
            finding = work.listing().neighbour(work.cursor, work.focus, step, singly)
            if finding is None:
                self.said.emit("There is no open finding." if work.survey else "Survey first (F5) to list findings.")
            elif singly:
                self.focus(finding)
            else:
                self.focus_group(work, finding)

    def focus_group(self, work: Work, finding: Finding) -> None:
        """Choose all that belong together with a finding, and look at the worst of it that is open."""
        listing = work.listing()
        group = listing.group_of(finding)
        worst = max(listing.open_of(group) or group, key=lambda one: one.severity)
        self.focus(worst, group if len(group) > 1 else ())

    def go_on(self) -> None:
        """Go to what is to be decided next: the next single one where one goes through a group one by one."""
        work = self.work
        if work is not None:
            of_a_group = work.focus is not None and len(work.listing().group_of(work.focus)) > 1
            self.focus_neighbour(1, singly=of_a_group and len(work.chosen) <= 1)

    def focus_next_kind(self) -> None:
        """Go to the first open finding of the next kind, in the docket's order."""
        if work := self.work:
            listing = work.listing()
            open_kinds = {listing.table.kind_names[code] for code in np.unique(listing.table.kinds[listing.open_rows])}
            kinds = [name for name in KINDS if name in open_kinds]
            if kinds:
                here = kinds.index(work.focus.kind) if work.focus and work.focus.kind in kinds else -1
                self.focus_group(work, listing.open_findings(kinds[(here + 1) % len(kinds)])[0])

    def keep(self) -> None:
        """Leave the chosen findings, or that in focus, as they are, on purpose, and go on to the next."""
        work = self.work
        if work is None or work.focus is None:
            return
        kept = tuple(finding.id for finding in work.open_chosen())
        if not kept:
            self.said.emit(f"This finding is {work.state_of(work.focus).value} already.")
            return
        if self.commit(work, Edit("keep as it is", kept=kept), work.version):
            self.go_on()
            what = "Kept as it is." if len(kept) == 1 else f"{format_count(len(kept), 'finding')} kept as they are."
            self.said.emit(f"{what} Undo takes that back.")

    def commit(self, work: Work, edit: Edit, version: Version | None = None) -> Edit | None:
        """Write an edit to the casebook and apply it; return it as it stands in the history.

        None if it could not be written, or edits must wait: the reason has been told then, and nothing has changed.
        """
        if work.held:
            self.failed.emit(work.held)
            return None
        linked = self.set_of(work)
        try:
            if linked is not None and edit.moves:
                made = self.commit_parts(linked.joint_parts(work, edit))
                return made[0] if made else None
            stored = work.shelf.commit(work.history, edit, version)
        except UmbrickError as error:
            self.failed.emit(f"{error} The recording is as it was before.")
            return None
        self.tell_edited(work)
        return stored

    def commit_parts(self, parts: Sequence[Part]) -> list[Edit]:
        """Write edits of linked recordings as one step and apply them; nothing if that could not be, which is told."""
        histories = [part.history for part in parts]
        works = [work for work in self.works if any(work.history is history for history in histories)]
        if held := next((work.held for work in works if work.held), ""):
            self.failed.emit(held)
            return []
        try:
            made = commit_together(parts)
        except UmbrickError as error:
            self.failed.emit(f"{error} The recordings are as they were before.")
            return []
        for work in works:
            self.tell_edited(work)
        self.lanes_changed.emit()
        return made

    def commit_behind(self, work: Work, edit: Edit, version: Version, done: Callable[[Edit], None]) -> Job:
        """Write an edit that may be long beside the window, then apply it; ``done`` is told how it stands then.

        Other edits wait meanwhile. Once begun it cannot be stopped: what is in the casebook is in the history too.
        """
        linked = self.set_of(work) if edit.moves else None
        lanes = [lane.work for lane in linked.lanes] if linked is not None else [work]
        leases = [lane.leases.take("An edit is being written; other edits wait.") for lane in lanes]

        def write(_: Job) -> list[Written]:
            alone = [Part(work.shelf, work.history, edit, version)]
            return write_together(linked.joint_parts(work, edit) if linked is not None else alone)

        def release() -> None:
            for lease in leases:
                lease.release()

        def written(parts: list[Written]) -> None:
            made = [part.push() for part in parts]
            release()
            for lane in lanes:
                self.tell_edited(lane)
            if linked is not None:
                self.lanes_changed.emit()
            done(made[0])

        return self.jobs.start("writing an edit", write, written, ended=release)

    def tell_edited(self, work: Work) -> None:
        """Let the widgets know that a recording was edited."""
        self.measure_peak(work)
        has_moved = work.stay_within()
        work.follow_focus()
        if work is self.work:
            # What depends on mends that are gone must know first.
            self.edited.emit()
            self.findings_changed.emit()
            self.focus_changed.emit()
            if has_moved:
                self.place_changed.emit()
                self.view_changed.emit()

    def measure_peak(self, work: Work) -> None:
        """Find the highest sample of the current version in the background, unless it is known."""
        version = work.version
        if version.key not in work.peaks:
            self.jobs.start(
                "measuring the peak",
                lambda _: work.measure_peak(version),
                lambda _: self.learned.emit(),
            )

    def undo(self) -> None:
        """Take back the last step."""
        self.keep_sensitivity()
        if self.work:
            self._step(self.work, -1, "Undone")

    def redo(self) -> None:
        """Bring back the step undone last."""
        if self.work:
            self._step(self.work, 1, "Redone")

    def _step(self, work: Work, step: int, what: str) -> None:
        """Take back (−1) or bring back (1) a step, of linked recordings that of whichever was made last."""
        linked = self.set_of(work)
        lanes = [lane.work for lane in linked.lanes] if linked else [work]
        if held := next((lane.held for lane in lanes if lane.held), ""):
            self.failed.emit(held)
            return
        were = {id(lane): lane.history.now for lane in lanes}
        try:
            edits = step_together([(lane.shelf, lane.history) for lane in lanes], step)
        except UmbrickError as error:
            self.failed.emit(f"{error} The recording is as it was before.")
            return
        if not edits:
            return
        moved = [lane for lane in lanes if lane.history.now != were[id(lane)]]
        for lane in moved:
            if lane is not work:
                self.tell_edited(lane)
        if work not in moved:
            self.show_work(moved[0])
            work = moved[0]
        edit, before = edits[0], were[id(work)]
        touched = findings_of(work.history, min(before, work.history.now))
        rows = [row for name in touched if (row := work.table.rows.get(name)) is not None]
        if len(rows) == 1:
            self.focus(work.table.findings[rows[0]])
        self.tell_edited(work)
        count = f" ({format_count(len(edit.made), 'mend')})" if len(edit.made) > 1 else ""
        where = f", in {format_count(len(edits), 'lane')}" if len(edits) > 1 else ""
        self.said.emit(f"{what}: {edit.title}{count}{where}.")
