"""What earlier versions of treatments made of a recording, as far as it is still kept."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from umbrick.core.course.acting import treatment_of
from umbrick.core.course.laid import rendered_source
from umbrick.core.course.rendered import TILE, Rendered, UnmadeError
from umbrick.core.course.step import Course, Spans, Step, merged
from umbrick.core.errors import CancelledError
from umbrick.core.timeline.version import Version


def is_earlier(step: Step) -> bool:
    """Return whether a step was made with another version of its treatment than this program has."""
    return step.algorithm != treatment_of(step).version


def brought_up(course: Course) -> Course:
    """Return a course with its steps as this program makes them."""
    return tuple(replace(step, algorithm=treatment_of(step).version) for step in course)


def still_kept(
    as_made: Version,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Spans:
    """Return the spans, whole tiles, where earlier steps acted and what was made then can still be read.

    Parameters
    ----------
    as_made : Version
        A version through its course as the course was made (:meth:`Ground.through`).

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so.
    """
    source = rendered_source(as_made)
    wanted: set[int] = set()
    layer: object = source
    while isinstance(layer, Rendered):
        if is_earlier(layer.step):
            wanted.update(layer.own_tiles(0, layer.frames))
        layer = layer.below
    kept: list[tuple[int, int]] = []
    for count, index in enumerate(sorted(wanted)):
        if is_cancelled():
            raise CancelledError
        span = index * TILE, min((index + 1) * TILE, as_made.frames)
        try:
            as_made.read(*span)
            kept.append(span)
        except UnmadeError:
            pass
        progress((count + 1) / len(wanted))
    return merged(kept)
