"""Everything known about one open recording: its sound, its history, its findings, and where one was looking."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from itertools import compress

import numpy as np
import numpy.typing as npt

from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.mend.place import Place
from umbrick.core.sound.pyramid import Extent, Pyramid
from umbrick.core.sound.recording import Recording
from umbrick.core.survey.finding import DEFAULT_SENSITIVITY, Finding, State, sift
from umbrick.core.survey.survey import Survey
from umbrick.core.timeline.history import Edit, History
from umbrick.core.timeline.version import Integers, Version
from umbrick.core.view.columns import Columns
from umbrick.core.view.window import Window

PASSAGE_SECONDS = 4.0
LOUPE_FRAMES = 96


@dataclass(frozen=True, eq=False)
class Listing:
    """Findings as the docket lists them: those that pass their sensitivity, and all that were decided about.

    ``states`` holds what was decided, by id; findings not in it are open.
    """

    findings: tuple[Finding, ...]
    open: tuple[Finding, ...]
    states: dict[str, State]
    starts: Integers
    stops: Integers
    is_open: npt.NDArray[np.bool_]
    """The same, as arrays in order of time: what strips look up at every repaint."""

    longest: int

    @classmethod
    def of(cls, findings: Sequence[Finding], sensitivity: dict[str, float], history: History) -> Listing:
        """Sift findings, and read their states from the history."""
        states: dict[str, State] = {}
        for edit in history.edits:
            states.update(dict.fromkeys(edit.kept, State.KEPT))
            for mend in edit.mends:
                states.update(dict.fromkeys(mend.finding_ids, State.MENDED))
        passed = {finding.id for finding in sift(findings, sensitivity)}
        listed = tuple(finding for finding in findings if finding.id in passed or finding.id in states)
        starts = np.array([finding.start for finding in listed], np.int64)
        stops = np.array([finding.stop for finding in listed], np.int64)
        is_open = np.array([finding.id not in states for finding in listed], np.bool_)
        longest = int((stops - starts).max()) if listed else 0
        return cls(listed, tuple(compress(listed, is_open)), states, starts, stops, is_open, longest)

    def within(self, start: float, stop: float) -> Sequence[Finding]:
        """Return the findings that reach into a span, in order of time."""
        first = int(np.searchsorted(self.starts, start - self.longest))
        last = int(np.searchsorted(self.starts, stop))
        return [finding for finding in self.findings[first:last] if finding.stop > start]

    def state_of(self, finding: Finding) -> State:
        """Return what has been decided about a finding."""
        return self.states.get(finding.id, State.OPEN)


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
    findings: tuple[Finding, ...] = ()
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
    _listing: tuple[object, Listing] | None = None

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
        key = (id(self.findings), tuple(sorted(self.sensitivity.items())), id(self.history.latest))
        if self._listing is None or self._listing[0] != key:
            self._listing = key, Listing.of(self.findings, self.sensitivity, self.history)
        return self._listing[1]

    def state_of(self, finding: Finding) -> State:
        """Return what has been decided about a finding."""
        return self.listing().state_of(finding)

    def sensitivity_of(self, kind: str) -> float:
        """Return the sensitivity set for a kind."""
        return self.sensitivity.get(kind, DEFAULT_SENSITIVITY)

    def damage(self, kind: str) -> list[Place]:
        """Return the places of one kind that are still damaged, in order of time."""
        return [Place.of(finding) for finding in self.listing().open if finding.kind == kind]

    def take_survey(self, survey: Survey) -> None:
        """List what a new survey found; findings already mended or kept stay listed as such."""
        states = self.listing().states
        decided = [finding for finding in self.findings if finding.id in states]
        again = {(f.kind, f.start, f.stop, f.channels) for f in decided}
        prefix = f"{self.survey_count}."
        new = [
            replace(finding, id=prefix + finding.id)
            for finding in survey.findings
            if (finding.kind, finding.start, finding.stop, finding.channels) not in again
        ]
        self.survey = survey
        self.findings = tuple(sorted([*decided, *new], key=lambda f: (f.start, f.kind, f.channels)))

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


def neighbour(findings: Sequence[Finding], position: int, focus: Finding | None, step: int) -> Finding | None:
    """Return the finding after (``step`` 1) or before (−1) the focus, or else the position, going round at the ends."""
    if not findings:
        return None
    here = (focus.start, focus.channels, focus.id) if focus else (position, (-1,), "")
    ordered = sorted(findings, key=lambda f: (f.start, f.channels, f.id))
    if step > 0:
        return next((f for f in ordered if (f.start, f.channels, f.id) > here), ordered[0])
    return next((f for f in reversed(ordered) if (f.start, f.channels, f.id) < here), ordered[-1])
