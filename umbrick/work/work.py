"""Everything known about one open recording: its sound, its history, its findings, and where one was looking."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from umbrick.casebook.locating import stat_of
from umbrick.casebook.shelf import Shelf
from umbrick.core.course.ahead import highest_sample
from umbrick.core.course.laid import Ground, rendered_source
from umbrick.core.course.step import Course, Settled
from umbrick.core.course.tiles import Tiles
from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.mend.place import Place
from umbrick.core.mend.remedies import Adjustment
from umbrick.core.sound.pyramid import Extent, Pyramid
from umbrick.core.sound.recording import Recording
from umbrick.core.survey.finding import DEFAULT_SENSITIVITY, SPANNING_KINDS, Finding, State
from umbrick.core.survey.survey import Measures, Survey
from umbrick.core.survey.table import FindingTable
from umbrick.core.timeline.history import History
from umbrick.core.timeline.version import Version
from umbrick.core.view.columns import Columns
from umbrick.core.view.window import Window
from umbrick.work.decisions import Decisions
from umbrick.work.leases import Leases
from umbrick.work.listing import ALL, CODES, Listing
from umbrick.work.selection import SelectedArea, Selection
from umbrick.work.settled import adjustment_of
from umbrick.work.sieve import Sieve

PASSAGE_SECONDS = 4.0
LOUPE_FRAMES = 96
_NONE: frozenset[str] = frozenset()
_PEAKS_HELD = 256
_LAID_HELD = 4
_PEAK_COLUMNS = 4096
"""The peak is measured in so many parts, so that after an edit just those it touched are measured again."""


@dataclass
class Work:
    """One open recording. Plain data without signals: :class:`Bench` changes it and tells the widgets."""

    recording: Recording
    pyramid: Pyramid
    shelf: Shelf
    """Its place in the casebook."""
    history: History
    tiles: Tiles = field(default_factory=Tiles)
    """Where what the course makes is kept."""
    columns: Columns = field(init=False)
    home: Path = field(init=False)
    """The file it belongs in: its own, until the old one is kept elsewhere."""
    home_stamp: tuple[int, int] = field(init=False)
    """Size and time of that file when it was last opened or written by this program."""
    wrote_home: bool = False
    """Whether what stands in that file was written by this program, so that nothing is lost when it is replaced."""
    is_own: bool = True
    """Whether the person opened that file on this machine, so that it may be replaced."""
    leases: Leases = field(default_factory=Leases)
    """Who needs the recording as it is, so that edits must wait."""
    sketch: Extent | None = None
    """A first coarse picture, drawn where the pyramid has not come to yet."""
    survey: Survey | None = None
    survey_count: int = 0
    found: FindingTable = field(default_factory=lambda: FindingTable.of(()))
    """Every finding that is listed, in frames of the original."""
    tried_sensitivity: dict[str, float] = field(default_factory=dict)
    """For kinds of finding the sensitivity while it is being set."""
    sieve: Sieve = ALL
    """What of the docket is shown."""
    closed: dict[str, frozenset[str]] = field(default_factory=dict)
    """By the keys of versions: findings that another mend made go away, as measured again (see :mod:`rechecking`)."""
    focus: Finding | None = None
    chosen: list[Finding] = field(default_factory=list)
    """The findings that are chosen in the docket, that in focus among them."""
    cursor: int = 0
    selection: Selection | None = None
    area: SelectedArea | None = None
    """What is selected in time and frequency."""
    selected_channels: tuple[int, ...] = field(init=False)
    """The channels that a selection is made on."""
    channel: int = 0
    """The channel the Loupe shows."""
    passage: Window = field(init=False)
    loupe: Window = field(init=False)
    magnified: float = 1.0
    """How many times taller than full scale needs the Passage draws the sound, at least 1."""
    saved: str = field(init=False)
    """Key of the version that a file holds."""
    peaks: OrderedDict[str, float] = field(default_factory=OrderedDict)
    """The highest sample of versions, by their keys."""
    _placed: tuple[FindingTable, Version, FindingTable] | None = None
    _decisions: Decisions | None = None
    _laid: list[tuple[tuple[Course, tuple[Settled, ...]], Version, Version]] = field(default_factory=list)
    _listing: tuple[tuple[object, ...], Listing] | None = None
    _measures: tuple[tuple[object, ...], Measures] | None = None

    def __post_init__(self) -> None:
        self.columns = Columns({self.recording.source.key: self.pyramid})
        self.home = self.recording.path
        self.selected_channels = tuple(range(self.channels))
        self.home_stamp = stat_of(self.home)
        frames = self.frames
        self.passage = Window(0, min(frames, PASSAGE_SECONDS * self.rate)).within(frames)
        self.loupe = Window(0, LOUPE_FRAMES).within(frames)
        self.saved = self.history.original.key

    @property
    def held(self) -> str:
        """Why edits must wait, or nothing."""
        return self.leases.reason

    @property
    def name(self) -> str:
        """The name of the file it belongs in, without its ending; of a track that is not the first, that too."""
        track = self.recording.track
        return self.home.stem if track is None or not track.number else f"{self.home.stem}, track {track.number}"

    @property
    def rate(self) -> int:
        """Frames a second."""
        return self.recording.source.rate

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self.recording.source.channels

    @property
    def version(self) -> Version:
        """The version that is worked on."""
        return self.history.current

    @property
    def sensitivity(self) -> dict[str, float]:
        """For kinds of finding the sensitivity, where it is not the usual one."""
        return {**self.history.standing.sensitivity, **self.tried_sensitivity}

    @property
    def preferred(self) -> Mapping[str, str]:
        """For kinds of finding the title of the mend that comes first, as rehearsed."""
        return self.history.standing.preferred

    @property
    def adjusted(self) -> dict[str, Adjustment]:
        """For kinds of finding the settings that were changed last; what no method has is left out."""
        read = {kind: adjustment_of(told) for kind, told in self.history.standing.adjusted.items()}
        return {kind: adjustment for kind, adjustment in read.items() if adjustment is not None}

    @property
    def ground(self) -> Ground:
        """That version as what a course is laid over."""
        return Ground(self.version, self.history.original, self.tiles, self.history.settled)

    @property
    def outcome(self) -> Version:
        """That version through the course: what is heard, drawn, surveyed and saved."""
        return self.through(self.version)

    def through(self, version: Version, course: Course | None = None) -> Version:
        """Return a version through the course, or through another one that is tried."""
        course = self.history.course if course is None else course
        if not course:
            return version
        settled = self.history.settled
        for held, under, laid in self._laid:
            if under is version and held == (course, settled):
                return laid
        laid = Ground(version, self.history.original, self.tiles, settled).through(course)
        self._laid = [((course, settled), version, laid), *self._laid[: _LAID_HELD - 1]]
        return laid

    @property
    def frames(self) -> int:
        """Length of that version."""
        return self.history.current.frames

    @property
    def table(self) -> FindingTable:
        """Every finding where it is in the version that is worked on; those whose sound is gone are left out."""
        if self.history.is_in_place:
            return self.found
        version = self.version
        if self._placed is None or self._placed[0] is not self.found or self._placed[1] is not version:
            self._placed = self.found, version, self.found.moved(self.history.original, version)
        return self._placed[2]

    def stay_within(self) -> bool:
        """Have what is looked at and selected lie in the version that is worked on, which may have become shorter.

        Return whether any of it did not.
        """
        frames, before = self.frames, (self.passage, self.loupe, self.cursor, self.selection)
        self.passage, self.loupe = self.passage.within(frames), self.loupe.within(frames)
        self.cursor = min(self.cursor, frames)
        if self.selection is not None:
            self.selection = self.selection.within(frames)
        return before != (self.passage, self.loupe, self.cursor, self.selection)

    def follow_focus(self) -> None:
        """Have the finding in focus be where its sound is now; none if that is gone."""
        if self.focus is not None:
            row = self.table.rows.get(self.focus.id)
            self.focus = None if row is None else self.table.findings[row]
            rows = (self.table.rows.get(finding.id) for finding in self.chosen)
            self.chosen = [self.table.findings[row] for row in rows if row is not None]

    @property
    def has_unsaved_mends(self) -> bool:
        """Whether anything was done that no file holds yet."""
        return self.outcome.key != self.saved

    def place(self) -> Place | None:
        """Return what is to be worked on: the selection on its channels, else that of the finding in focus, or None."""
        if self.selection:
            return self.selection.place
        return Place.of(self.focus) if self.focus and self.focus.kind not in SPANNING_KINDS else None

    def listing(self) -> Listing:
        """Return the findings as listed now; the same object until something about them changes."""
        closed = self.closed_now
        key = (self.table, tuple(sorted(self.sensitivity.items())), self.history.latest, self.sieve, closed)
        if self._listing is None or not _same(self._listing[0], key):
            if self._decisions is None or self._decisions.table is not self.table:
                self._decisions = Decisions(self.table)
            codes = self._decisions.codes(self.history)
            for name in closed:
                if (row := self.table.rows.get(name)) is not None and codes[row] == CODES[State.OPEN]:
                    codes[row] = CODES[State.MENDED]
            self._listing = key, Listing.of(self.table, self.sensitivity, codes, self.rate, self.sieve)
        return self._listing[1]

    @property
    def closed_now(self) -> frozenset[str]:
        """The findings that mends of others made go away in the current version, as far as measured again."""
        return self.closed.get(self.outcome.key, _NONE)

    def open_chosen(self) -> list[Finding]:
        """Return what a decision means: of the findings that are chosen, or of that in focus, those that are open."""
        chosen = self.chosen if len(self.chosen) > 1 else [self.focus] if self.focus else []
        return self.listing().open_of(chosen)

    def measures(self) -> Measures | None:
        """Return the measures of the last survey at the present sensitivity, or None before the first."""
        if self.survey is None:
            return None
        key = (self.survey, tuple(sorted(self.sensitivity.items())))
        if self._measures is None or not _same(self._measures[0], key):
            self._measures = key, self.survey.measures(self.sensitivity)
        return self._measures[1]

    def state_of(self, finding: Finding) -> State:
        """Return what has been decided about a finding."""
        return self.listing().state_of(finding)

    def sensitivity_of(self, kind: str) -> float:
        """Return the sensitivity set for a kind."""
        return self.sensitivity.get(kind, DEFAULT_SENSITIVITY)

    def decided(self) -> list[Finding]:
        """Return the findings that are mended or kept, in frames of the original."""
        listing = self.listing()
        names = [listing.table.findings[row].id for row in np.flatnonzero(listing.codes).tolist()]
        return [self.found.findings[self.found.rows[name]] for name in names]

    def measure_peak(self, version: Version) -> float:
        """Return the highest absolute sample of a version, and remember it; may read the file, so not for the window.

        While the pyramid is still growing, what it does not cover yet is left out.
        """
        peak = 0.0
        if version.frames:
            extent = self.columns.measure(version, 0, version.frames, min(version.frames, _PEAK_COLUMNS))
            peak = max(0.0, float(extent.high.max()), -float(extent.low.min()))
        self.note_peak(version, peak)
        return peak

    def note_peak(self, version: Version, peak: float) -> None:
        """Remember the highest absolute sample of a version, beside those of the last few."""
        self.peaks[version.key] = peak
        while len(self.peaks) > _PEAKS_HELD:
            self.peaks.popitem(last=False)

    def measure_outcome(
        self,
        outcome: Version,
        progress: Callable[[float], None] = lambda _: None,
        is_cancelled: Callable[[], bool] = lambda: False,
    ) -> float:
        """Return the highest sample of a version through its course, and remember it; may have to render all of it."""
        if outcome.key not in self.peaks:
            if rendered_source(outcome) is None:
                return self.measure_peak(outcome)
            self.note_peak(outcome, highest_sample(outcome, progress, is_cancelled))
        return self.peaks[outcome.key]

    @property
    def knows_peak(self) -> bool:
        """Whether the highest sample of what is saved is known."""
        outcome = self.outcome
        rendered = rendered_source(outcome)
        is_known = outcome.key in self.peaks
        return is_known or (rendered is not None and rendered.overview.is_complete and bool(rendered.touched.all()))

    @property
    def peak(self) -> float:
        """Highest absolute sample of what is saved, as far as it is known; full scale until then."""
        outcome = self.outcome
        rendered = rendered_source(outcome)
        if rendered is None or outcome.key in self.peaks:
            return self.peaks.get(outcome.key, 1.0)
        peak = self.peaks.get(self.version.key, 1.0)
        known = rendered.overview
        return known.highest if known.is_complete and known.touched.all() else max(peak, known.highest)

    @property
    def fitting_gain_db(self) -> float:
        """The level change that lets it be saved in fixed point without being cut off."""
        return fitting_gain_db(self.peak)


def merged(survey: Survey, decided: list[Finding]) -> FindingTable:
    """Return the table of a new survey's findings and those already decided about, which stay listed as such."""
    if not decided:
        return survey.table
    again = {(f.kind, f.start, f.stop, f.channels) for f in decided}
    new = (f for f in survey.table.findings if (f.kind, f.start, f.stop, f.channels) not in again)
    return FindingTable.of([*decided, *new])


def _same(one: tuple[object, ...], other: tuple[object, ...]) -> bool:
    return all(a is b or (isinstance(a, tuple) and a == b) for a, b in zip(one, other, strict=True))
