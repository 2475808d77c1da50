"""Running a regimen on a recording: its mends one after another, then its course, laid and learned anew."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import NamedTuple

from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.step import Course
from umbrick.core.course.step import Step as CourseStep
from umbrick.core.errors import ParameterError
from umbrick.core.measure.pauses import all_pauses
from umbrick.core.mend.applying import Mended
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import Batch, Outcome, Refused, carried_out
from umbrick.core.regimen.regimen import ALL, PAUSES, Regimen, Step
from umbrick.core.survey.finding import SPANNING_KINDS, Finding
from umbrick.core.survey.table import FindingTable
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.marks import CourseTurn
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.version import Version

_MENDING_SHARE = 0.6

Span = tuple[int, int]


class Ran(NamedTuple):
    """What became of a regimen: what became of its mends, the course over them, and what was left.

    ``declined`` found nothing to do; ``doubtful`` are findings of the kinds it mends that were not sure enough.
    """

    mended: Outcome
    course: Course
    declined: tuple[str, ...]
    doubtful: tuple[Finding, ...]

    def edit(self, title: str) -> Edit:
        """Return all of it as one step of the history of a recording whose course is empty."""
        edit = self.mended.edit(title)
        return replace(edit, marks=(CourseTurn((), self.course),)) if self.course else edit


def run_regimen(
    ground: Ground,
    regimen: Regimen,
    findings: Sequence[Finding],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
    within: Span | None = None,
) -> Ran:
    """Return what a regimen makes of a recording, or of a part of it.

    Parameters
    ----------
    ground : Ground
        The recording as it was opened.
    regimen : Regimen
    findings : sequence of Finding
        Of a survey at the regimen's sensitivity, in frames of the original.
    progress, is_cancelled : callable
    within : (int, int), optional
        Frames of the ground's version: findings that lie elsewhere are left, and steps are laid over no more than that.

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so.
    """
    original = version = ground.version
    part = within or (0, original.frames)
    findings = [finding for finding in findings if finding.start < part[1] and finding.stop > part[0]]
    sure = [finding for finding in findings if finding.confidence >= regimen.least_confidence]
    stages: list[Mended] = []
    refused: list[Refused] = []
    for number, step in enumerate(regimen.mends):

        def told(share: float, number: int = number) -> None:
            progress(_MENDING_SHARE * (number + share) / len(regimen.mends))

        known = _moved(findings, original, version)
        places = _places(step, original, version, _moved(sure, original, version), part)
        if not places:
            continue
        done = carried_out(version, [Batch(step.method, step.settings, places)], known, told, is_cancelled)
        refused += done.refused
        if done.mended is not None:
            stages.append(done.mended)
            version = done.mended.version
    laid_within = map_spans(original, ground.original, [within])[0] if within else None
    course, declined = _laid(ground, version, regimen, sure, laid_within, progress, is_cancelled)
    meant = {kind for step in regimen.mends for kind in step.where.kinds}
    doubtful = tuple(f for f in findings if f.kind in meant and f.confidence < regimen.least_confidence)
    return Ran(Outcome(version, tuple(stages), tuple(refused)), course, declined, doubtful)


def _laid(
    ground: Ground,
    version: Version,
    regimen: Regimen,
    sure: Sequence[Finding],
    within: Span | None,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> tuple[Course, tuple[str, ...]]:
    over = Ground(version, ground.original, ground.tiles, ground.settled)
    channels = tuple(range(version.channels))
    course: Course = ()
    declined = []
    steps = regimen.course
    for number, step in enumerate(steps):

        def told(share: float, number: int = number) -> None:
            progress(_MENDING_SHARE + (1 - _MENDING_SHARE) * (number + share) / len(steps))

        try:
            spans = _spans(step, ground.original, sure)
            if within is not None:
                spans = _inside(spans if spans is not None else [within], within)
            if spans is not None and not spans:
                continue
            new: CourseStep = new_step(step.method, step.settings, channels, spans, course)
            course = (*course, learned(over, course, new, told, is_cancelled))
        except ParameterError as error:
            declined.append(f"{step.method.title}: {error.message}")
    return course, tuple(declined)


def _moved(findings: Sequence[Finding], original: Version, version: Version) -> list[Finding]:
    """Return findings where they are in a version; those whose sound is gone are left out."""
    if version is original:
        return list(findings)
    return list(FindingTable.of(findings).moved(original, version).findings)


def _places(step: Step, original: Version, version: Version, sure: Sequence[Finding], part: Span) -> list[Place]:
    where, channels = step.where, tuple(range(version.channels))
    if where.kinds:
        return [Place.of(f) for f in sure if f.kind in where.kinds and f.kind not in SPANNING_KINDS]
    if where.text == ALL:
        wanted: Sequence[Span] = [part]
    else:
        wanted = where.spans or all_pauses(original)
    spans = _inside(wanted, part)
    return [Place(start, stop, channels) for start, stop in map_spans(original, version, spans) if start < stop]


def _spans(step: Step, original: Version, sure: Sequence[Finding]) -> list[Span] | None:
    """Return the spans of the original that a step of the course is laid over; None for all of it."""
    where = step.where
    if where.text == ALL:
        return None
    if where.text == PAUSES:
        return all_pauses(original)
    if where.kinds:
        own = [finding for finding in sure if finding.kind in where.kinds]
        # What covers all of a recording, such as hum, is no place of it.
        return None if any(f.kind in SPANNING_KINDS for f in own) else [(f.start, f.stop) for f in own]
    return _inside(where.spans, (0, original.frames))


def _inside(spans: Sequence[Span], part: Span) -> list[Span]:
    """Return what of some spans lies in a part."""
    return [(max(start, part[0]), min(stop, part[1])) for start, stop in spans if start < part[1] and stop > part[0]]
