"""Settling: what a course makes of a stretch becomes ordinary samples, which the steps then leave alone."""

from __future__ import annotations

from umbrick.core.course.acting import acts
from umbrick.core.course.frozen import FrozenSource
from umbrick.core.course.step import Course, Spans
from umbrick.core.mend.making import standing_for
from umbrick.core.timeline.change import Change
from umbrick.core.timeline.history import SETTLE, Edit, Mend
from umbrick.core.timeline.marks import CourseTurn
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.runs import Runs
from umbrick.core.timeline.version import Version


def settling(
    version: Version,
    spans: Spans,
    frozen: FrozenSource,
    course: Course,
    original: Version,
    title: str = "settle the course",
    turns: tuple[CourseTurn, ...] = (),
) -> Edit:
    """Return the edit that puts frozen sound in place of spans of a version, and has the course's steps spare them.

    Parameters
    ----------
    spans : spans
        In order and apart, at least one.
    frozen : FrozenSource
        The sound of the spans, one after another.
    turns : tuple of CourseTurn
        What becomes of the course in the same edit.
    """
    starts, stops = [start for start, _ in spans], [stop for _, stop in spans]
    pieces, at = [], 0
    for start, stop in spans:
        pieces.append(standing_for(version, start, stop, frozen, at))
        at += stop - start
    change = Change.of(version, starts, stops, Runs.of(pieces))
    parameters = {
        "steps": [step.id for step in course if acts(step)],
        "spans": [list(span) for span in map_spans(version, original, spans)],
    }
    mend = Mend(SETTLE, starts[0], stops[-1], tuple(range(version.channels)), parameters)
    return Edit(title, (change,), (mend,), ((0, len(spans)),), marks=turns)
