"""Doing some of what a first look proposes: mends first, then the steps of the course, each learned anew."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import NamedTuple

from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned
from umbrick.core.course.step import Course, Step, free_id
from umbrick.core.errors import ParameterError
from umbrick.core.first_look.proposal import Proposal
from umbrick.core.mend.plan import Outcome, Plan, run
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.marks import CourseTurn
from umbrick.core.timeline.version import Version

_MENDING_SHARE = 0.5


class Done(NamedTuple):
    """What was done: what became of the mends, and the course with the new steps; ``declined`` found nothing to do."""

    mended: Outcome | None
    version: Version
    before: Course
    course: Course
    declined: tuple[str, ...]

    def edit(self) -> Edit:
        """Return all of it as one step of the history."""
        title = "first look"
        edit = self.mended.edit(title) if self.mended is not None and self.mended.stages else Edit(title)
        return replace(edit, marks=(CourseTurn(self.before, self.course),)) if self.course != self.before else edit


def done(
    proposals: Sequence[Proposal],
    ground: Ground,
    course: Course,
    known: Sequence[Finding],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Done:
    """Return what comes of proposals.

    Parameters
    ----------
    proposals : sequence of Proposal
    ground : Ground
        The version they were made for.
    course : Course
        What is laid over it already; new steps come after it.
    known : sequence of Finding
        What is known of the version: each method minds some kinds of damage.
    progress, is_cancelled : callable
        Told the share done, from 0 to 1; asked whether to stop.

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so; nothing is done then.
    """
    findings = tuple(finding for one in proposals for finding in one.findings)
    steps = [one.step for one in proposals if one.step is not None]
    mended = None
    if findings:
        plan = Plan(findings, spares_the_sound=True)
        mended = run(ground.version, plan, known, lambda share: progress(_MENDING_SHARE * share), is_cancelled)
        ground = replace(ground, version=mended.version)
    before, declined = course, []
    for number, step in enumerate(steps):

        def told(share: float, number: int = number) -> None:
            progress(_MENDING_SHARE + (1 - _MENDING_SHARE) * (number + share) / len(steps))

        new = replace(step, id=free_id(course))
        try:
            course = (*course, learned(ground, course, new, told, is_cancelled))
        except ParameterError as error:
            declined.append(error.message)
    return Done(mended, ground.version, before, course, tuple(declined))


def laid(steps: Sequence[Step], course: Course) -> Course:
    """Return a course with steps after it as they are, with ids of their own."""
    for step in steps:
        course = (*course, replace(step, id=free_id(course)))
    return course
