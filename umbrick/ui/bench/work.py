"""Everything known about one open recording: its sound, its history, its findings, and where one was looking."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.sound.pyramid import Extent, Pyramid
from umbrick.core.sound.recording import Recording
from umbrick.core.survey.finding import DEFAULT_SENSITIVITY, Finding, State
from umbrick.core.survey.survey import Measures, Survey
from umbrick.core.survey.table import FindingTable, Integers
from umbrick.core.timeline.history import Edit, History
from umbrick.core.timeline.version import Version
from umbrick.core.view.columns import Columns
from umbrick.core.view.window import Window
from umbrick.ui.bench.listing import CODES, Listing

PASSAGE_SECONDS = 4.0
LOUPE_FRAMES = 96


@dataclass
class Work:
    """One open recording. Plain data without signals: :class:`Bench` changes it and tells the widgets."""

    recording: Recording
    pyramid: Pyramid
    history: History = field(init=False)
    columns: Columns = field(init=False)
    sketch: Extent | None = None
    """A first coarse picture, drawn where the pyramid has not come to yet."""
    survey: Survey | None = None
    survey_count: int = 0
    table: FindingTable = field(default_factory=lambda: FindingTable.of(()))
    sensitivity: dict[str, float] = field(default_factory=dict)
    focus: Finding | None = None
    cursor: int = 0
    selection: tuple[int, int] | None = None
    channel: int = 0
    """The channel the Loupe shows."""
    passage: Window = field(init=False)
    loupe: Window = field(init=False)
    saved: Version | None = None
    peaks: dict[Version, float] = field(default_factory=dict)
    _listing: tuple[tuple[object, ...], Listing] | None = None
    _measures: tuple[tuple[object, ...], Measures] | None = None
    _rows_of_edits: dict[int, tuple[Edit, FindingTable, dict[State, Integers]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.history = History(Version.of(self.recording.source))
        self.columns = Columns({self.recording.source.key: self.pyramid})
        frames = self.frames
        self.passage = Window(0, min(frames, PASSAGE_SECONDS * self.rate)).within(frames)
        self.loupe = Window(0, LOUPE_FRAMES).within(frames)
        self.saved = self.history.original

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
    def frames(self) -> int:
        """Length of that version."""
        return self.history.current.frames

    @property
    def has_unsaved_mends(self) -> bool:
        """Whether there are mends that no file holds yet."""
        return self.version is not self.saved

    def listing(self) -> Listing:
        """Return the findings as listed now; the same object until something about them changes."""
        key = (self.table, tuple(sorted(self.sensitivity.items())), self.history.latest)
        if self._listing is None or not _same(self._listing[0], key):
            codes = np.zeros(len(self.table.findings), np.int8)
            for edit in self.history.edits:
                for state, rows in self.rows_of(edit).items():
                    codes[rows] = CODES[state]
            self._listing = key, Listing.of(self.table, self.sensitivity, codes)
        return self._listing[1]

    def measures(self) -> Measures | None:
        """Return the measures of the last survey at the present sensitivity, or None before the first."""
        if self.survey is None:
            return None
        key = (self.survey, tuple(sorted(self.sensitivity.items())))
        if self._measures is None or not _same(self._measures[0], key):
            self._measures = key, self.survey.measures(self.sensitivity)
        return self._measures[1]

    def rows_of(self, edit: Edit) -> dict[State, Integers]:
        """Return the rows of the table that an edit decided about; remembered, so that it can be worked out ahead."""
        held = self._rows_of_edits.get(id(edit))
        if held is None or held[0] is not edit or held[1] is not self.table:
            ids = {
                State.MENDED: [finding_id for mend in edit.mends for finding_id in mend.finding_ids],
                State.KEPT: edit.kept,
            }
            table = self.table
            rows = {
                state: np.array([table.rows[name] for name in names if name in table.rows], np.int64)
                for state, names in ids.items()
            }
            held = self._rows_of_edits[id(edit)] = edit, table, rows
        return held[2]

    def state_of(self, finding: Finding) -> State:
        """Return what has been decided about a finding."""
        return self.listing().state_of(finding)

    def sensitivity_of(self, kind: str) -> float:
        """Return the sensitivity set for a kind."""
        return self.sensitivity.get(kind, DEFAULT_SENSITIVITY)

    def merged(self, survey: Survey) -> FindingTable:
        """Return the table of a new survey's findings and those already mended or kept, which stay listed as such."""
        listing = self.listing()
        decided = [self.table.findings[row] for row in np.flatnonzero(listing.codes).tolist()]
        if not decided:
            return survey.table
        again = {(f.kind, f.start, f.stop, f.channels) for f in decided}
        new = (f for f in survey.table.findings if (f.kind, f.start, f.stop, f.channels) not in again)
        return FindingTable.of([*decided, *new])

    def push(self, edit: Edit, version: Version) -> None:
        """Make a new version the current one."""
        self.history.push(edit, version)

    def measure_peak(self, version: Version) -> float:
        """Return the highest absolute sample of a version, and remember it; may read the file, so not for the window.

        While the pyramid is still growing, what it does not cover yet is left out.
        """
        peak = 0.0
        if version.frames:
            extent = self.columns.measure(version, 0, version.frames, 1)
            peak = max(0.0, float(extent.high.max()), -float(extent.low.min()))
        self.peaks[version] = peak
        return peak

    @property
    def peak(self) -> float:
        """Highest absolute sample of the current version, as last measured; full scale until then."""
        return self.peaks.get(self.version, 1.0)

    @property
    def fitting_gain_db(self) -> float:
        """The level change that lets the current version be saved in fixed point without being cut off."""
        return fitting_gain_db(self.peak)


def _same(one: tuple[object, ...], other: tuple[object, ...]) -> bool:
    return all(a is b or (isinstance(a, tuple) and a == b) for a, b in zip(one, other, strict=True))
