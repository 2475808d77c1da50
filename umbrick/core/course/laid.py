"""The course laid over a version: what is heard, drawn, surveyed and saved."""

from __future__ import annotations

import numpy as np

from umbrick.core.course.acting import acts
from umbrick.core.course.rendered import Named, Rendered
from umbrick.core.course.step import Course, merged
from umbrick.core.course.tiles import Tiles
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.version import Version


def laid_over(version: Version, course: Course, original: Version, tiles: Tiles) -> Version:
    """Return a version through a course: the same positions, other sound. Nothing is worked out until it is read.

    Spans of steps stay with their sound, as markers do.

    Raises
    ------
    ParameterError
        If a step is of a treatment that this program does not have.
    """
    source: Named = version
    for step in course:
        if not acts(step):
            continue
        spans = None
        if step.spans is not None:
            placed = merged(map_spans(original, version, step.spans) if version is not original else step.spans)
            if not placed:
                continue
            spans = np.array(placed, np.int64).reshape(-1, 2)
        source = Rendered(source, step, spans, tiles)
    return version if source is version else version.through(source)


def rendered_source(version: Version) -> Rendered | None:
    """Return the source of a version that a course is laid over; None if none is."""
    source = version.sources[0] if len(version.sources) == 1 else None
    return source if isinstance(source, Rendered) else None


def underneath(version: Version) -> Version:
    """Return what the course is laid over in a version; itself if none is."""
    source: object = rendered_source(version)
    while isinstance(source, Rendered):
        source = source.below
    return source if isinstance(source, Version) else version
