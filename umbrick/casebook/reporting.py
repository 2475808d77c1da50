"""What a casebook knows of its recordings, for a report."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping

import numpy as np
import numpy.typing as npt

from umbrick.casebook.locating import Match, compare
from umbrick.casebook.shelf import Reference, Shelf
from umbrick.casebook.surveys import Surveyed
from umbrick.core.course.laid import Ground
from umbrick.core.course.tiles import Tiles
from umbrick.core.paths import cache_folder
from umbrick.core.report.facts import Facts, states_of
from umbrick.core.sound.cues import Cue
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.sound.source import Samples, Source, check_span
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.history import History
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.version import Version


class MissingSource:
    """Stands for a recording whose file is not there: it has a length, but only silence."""

    def __init__(self, reference: Reference) -> None:
        self.key = f"missing:{reference.path}"
        self.rate = reference.rate
        self.channels = reference.channels
        self.frames = reference.frames

    @property
    def available(self) -> int:
        """All frames."""
        return self.frames

    def read(self, start: int, stop: int) -> Samples:
        """Return silence."""
        check_span(start, stop, self.frames)
        return np.zeros((stop - start, self.channels), np.float32)

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return silence."""
        return self.read(start, stop).astype(np.float64)


def facts_of_shelf(
    shelf: Shelf, progress: Callable[[float], None] = lambda _: None, is_cancelled: Callable[[], bool] = lambda: False
) -> tuple[Facts, Recording | None]:
    """Return what a casebook knows of one recording, and the recording, which the caller closes; None if it is missing.

    Raises
    ------
    UmbrickError
        If the casebook or the recording cannot be read.
    """
    reference = shelf.reference()
    match = compare(reference.path, reference.bytes, reference.modified_ns, reference.sha256)
    recording = open_recording(reference.path, cache_folder(), reference.track) if match is Match.SAME else None
    source: Source = recording.source if recording else MissingSource(reference)
    history = shelf.history(source).history
    surveyed = shelf.survey(history.original.frames)
    measured, closed = shelf.closed()
    sha256 = reference.sha256 or (sha256_of(reference.path, is_cancelled) if recording else "")
    form = FileFormat(reference.container, reference.subtype)
    facts = facts_of(
        str(reference.home), sha256, form, history, surveyed, reference.sensitivity,
        closed if measured == outcome_of(history).key else (), recording is not None, progress, is_cancelled,
    )  # fmt: skip
    return facts, recording


def outcome_of(history: History) -> Version:
    """Return what is heard of a recording: its current version, through its course."""
    return Ground(history.current, history.original, Tiles(), history.settled).through(history.course)


def facts_of(
    path: str,
    sha256: str,
    form: FileFormat,
    history: History,
    surveyed: Surveyed | None,
    sensitivity: Mapping[str, float],
    closed: Collection[str],
    can_be_heard: bool,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Facts:
    """Return the facts of a recording; what was mended is measured again, in one pass.

    ``closed`` names the findings that mends of others made go away.

    Raises
    ------
    FileError
        If the recording cannot be read.
    CancelledError
        If ``is_cancelled`` says so.
    """
    original, version = history.original, history.current
    outcome = outcome_of(history)
    states = states_of(history, closed)
    findings = []
    if surveyed:
        passing = surveyed.table.passing(sensitivity)
        findings = [
            finding
            for finding, passes in zip(surveyed.table.findings, passing.tolist(), strict=True)
            if passes or finding.id in states
        ]
    after = None
    if surveyed and can_be_heard and (history.mend_count or history.course):
        found = Surveyor(outcome, form.bits, list(KINDS.values()), beneath=version).run(progress, is_cancelled)
        after = found.measures(sensitivity)
    spans = map_spans(original, version, [(marker.start, marker.stop) for marker in history.markers])
    markers = [
        Cue(start, stop - start, marker.name, marker.note)
        for marker, (start, stop) in zip(history.markers, spans, strict=True)
    ]
    ledger = history.ledger
    return Facts(
        path,
        sha256,
        form,
        original,
        version,
        findings,
        states,
        [entry.mend for entry in ledger if entry.is_on],
        [entry.mend for entry in ledger if not entry.is_on],
        surveyed.survey.measures(sensitivity) if surveyed else None,
        after,
        0.0,
        dict(history.notes),
        markers,
        can_be_heard,
        history.course,
    )
