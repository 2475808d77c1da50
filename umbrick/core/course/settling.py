"""Settling: what a course makes of a stretch becomes ordinary samples, which the steps then leave alone."""

from __future__ import annotations

from umbrick.core.course.acting import acts
from umbrick.core.course.frozen import FrozenSource
from umbrick.core.course.step import Course
from umbrick.core.mend.making import standing_for
from umbrick.core.timeline.change import Change
from umbrick.core.timeline.history import SETTLE, Edit, Mend
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.runs import Runs
from umbrick.core.timeline.version import Version


def settling(version: Version, start: int, stop: int, frozen: FrozenSource, course: Course, original: Version) -> Edit:
    """Return the edit that puts frozen sound in place of a span of a version, and has the course's steps spare it."""
    steps = [step.id for step in course if acts(step)]
    span = list(map_spans(version, original, [(start, stop)])[0])
    pieces = standing_for(version, start, stop, frozen)
    change = Change.of(version, [start], [stop], Runs.of([pieces]))
    channels = tuple(range(version.channels))
    mend = Mend(SETTLE, start, stop, channels, {"steps": steps, "span": span})
    return Edit("settle the course", (change,), (mend,), ((0, 1),))
