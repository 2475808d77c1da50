"""Measuring again after a mend: what it took away is closed, what is still there stays open."""

from __future__ import annotations

from PySide6.QtCore import QObject

from umbrick.core.errors import CancelledError
from umbrick.core.survey.excerpt import WHOLE_KINDS, is_same, survey_span
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.provenance import rebuilt_spans
from umbrick.core.timeline.version import Version
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.work.listing import Listing

_CONTEXT_SECONDS = 6.0
_SLACK_SECONDS = 0.003
_JOINED_SECONDS = 4.0
_MOST_PLACES = 200
"""Where so many open findings lie in mended sound, surveying again is the better way."""


class Rechecking(QObject):
    """Looks, after every edit, at the open findings that lie in mended sound."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self._job: Job | None = None
        bench.version_changed.connect(self.look)

    def look(self) -> None:
        """Measure again, beside the window, what is open in mended sound of the recording as it stands."""
        work = self._bench.work
        if work is None or work.survey is None or work.outcome.key in work.closed:
            return
        if self._job:
            self._job.cancel()
            self._job = None
        version, bits, key = work.outcome, work.recording.format.bits, work.outcome.key
        original, listing = work.history.original, work.listing()

        def measure(job: Job) -> frozenset[str]:
            doubtful = _doubtful(listing, version, original)
            gone: set[str] = set()
            if len(doubtful) > _MOST_PLACES:
                return frozenset()
            slack = round(_SLACK_SECONDS * version.rate)
            for group in _groups(doubtful, round(_JOINED_SECONDS * version.rate)):
                if job.is_cancelled():
                    raise CancelledError
                kinds = [KINDS[name] for name in sorted({finding.kind for finding in group})]
                start, stop = min(f.start for f in group), max(f.stop for f in group)
                found = survey_span(
                    version, bits, kinds, start, stop, is_cancelled=job.is_cancelled, context_seconds=_CONTEXT_SECONDS
                )
                heard = [f for f in found if f.confidence >= 1.0 - work.sensitivity_of(f.kind)]
                gone |= {f.id for f in group if not any(is_same(f, other, slack) for other in heard)}
            work.shelf.write_closed(key, frozenset(gone))
            return frozenset(gone)

        def done(gone: frozenset[str]) -> None:
            work.closed[key] = gone
            if gone and work is self._bench.work and work.outcome.key == key:
                self._bench.findings_changed.emit()

        self._job = self._bench.jobs.start("measuring again", measure, done)


def _doubtful(listing: Listing, version: Version, original: Version) -> list[Finding]:
    """Return the open findings that touch sound which is not the original's."""
    rows: set[int] = set()
    for start, stop in rebuilt_spans(version, original):
        rows.update(listing.table.within(start, stop).tolist())
    findings = (listing.table.findings[row] for row in sorted(rows) if listing.is_listed[row])
    return [f for f in findings if f.kind not in WHOLE_KINDS and listing.state_of(f) is State.OPEN]


def _groups(findings: list[Finding], apart: int) -> list[list[Finding]]:
    """Return findings, in order of time, in groups that are measured in one go."""
    groups: list[list[Finding]] = []
    for finding in findings:
        if groups and finding.start - groups[-1][-1].stop < apart:
            groups[-1].append(finding)
        else:
            groups.append([finding])
    return groups
