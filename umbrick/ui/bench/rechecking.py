"""Measuring again after a mend: what it took away is closed, what is still there stays open."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject

from umbrick.core.course.laid import rendered_source, underneath
from umbrick.core.errors import CancelledError
from umbrick.core.survey.excerpt import WHOLE_KINDS, is_same, survey_span
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
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
        bench.edited.connect(self.look)

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
            gone = _gone_from_all(listing, version, bits, work.sensitivity_of, job.is_cancelled)
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
    """Return the open findings that touch sound which is not the original's, or is changed by the course."""
    rows: set[int] = set()
    for start, stop in rebuilt_spans(underneath(version), original):
        rows.update(listing.table.within(start, stop).tolist())
    rendered = rendered_source(version)
    for start, stop in rendered.touched_spans() if rendered is not None else ():
        within = listing.table.within(start, stop).tolist()
        rows.update(row for row in within if KINDS[listing.table.findings[row].kind].of_outcome)
    findings = (listing.table.findings[row] for row in sorted(rows) if listing.is_listed[row])
    return [f for f in findings if f.kind not in WHOLE_KINDS and listing.state_of(f) is State.OPEN]


def _gone_from_all(
    listing: Listing,
    version: Version,
    bits: int | None,
    sensitivity_of: Callable[[str], float],
    is_cancelled: Callable[[], bool],
) -> set[str]:
    """Return the open findings of the recording as a whole, such as hum, that the course has made go away."""
    rendered = rendered_source(version)
    if rendered is None or not rendered.touched.all():
        return set()
    of_all = [
        finding for finding in listing.open_findings() if finding.kind in WHOLE_KINDS and KINDS[finding.kind].of_outcome
    ]
    kinds = [KINDS[name] for name in sorted({finding.kind for finding in of_all})]
    if not kinds:
        return set()
    found = Surveyor(version, bits, kinds).run(is_cancelled=is_cancelled).table.findings
    left = {other.kind for other in found if other.confidence >= 1.0 - sensitivity_of(other.kind)}
    return {finding.id for finding in of_all if finding.kind not in left}


def _groups(findings: list[Finding], apart: int) -> list[list[Finding]]:
    """Return findings, in order of time, in groups that are measured in one go."""
    groups: list[list[Finding]] = []
    for finding in findings:
        if groups and finding.start - groups[-1][-1].stop < apart:
            groups[-1].append(finding)
        else:
            groups.append([finding])
    return groups
