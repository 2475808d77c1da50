"""Making a step, and learning what its treatment has to know of the sound that comes to it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from umbrick.core.course.acting import treatment_of
from umbrick.core.course.laid import laid_over
from umbrick.core.course.step import Course, Spans, Step, free_id, merged
from umbrick.core.course.tiles import Tiles
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameters
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.version import Version


def new_step(
    method: Method,
    settings: Parameters,
    channels: tuple[int, ...],
    spans: Iterable[tuple[int, int]] | None,
    course: Course,
    where: str = "",
) -> Step:
    """Return a step that is not in a course yet; ParameterError if the settings are wrong, or it is no treatment."""
    does = method.does
    if not isinstance(does, Treatment):
        raise ParameterError(f"{method.title} mends a place; it cannot be laid over a recording.")
    held: Spans | None = None if spans is None else merged(spans)
    return Step(free_id(course), method.name, method.checked(settings), channels, held, where, algorithm=does.version)


def sound_before(version: Version, course: Course, step: Step, original: Version, tiles: Tiles) -> Version:
    """Return the sound that comes to a step of a course, or would at its end."""
    index = next((at for at, other in enumerate(course) if other.id == step.id), len(course))
    return laid_over(version, course[:index], original, tiles)


def placed_spans(version: Version, step: Step, original: Version) -> Spans:
    """Return where a step acts in a version."""
    if step.spans is None:
        return ((0, version.frames),) if version.frames else ()
    return merged(map_spans(original, version, step.spans))


def what_is_learned_from(version: Version, course: Course, step: Step, original: Version, tiles: Tiles) -> str:
    """Return a name for the sound that a step learns from: another one when that has changed."""
    sound = sound_before(version, course, step, original, tiles)
    return f"{sound.key}:{placed_spans(version, step, original)}" if treatment_of(step).learn else ""


def learned(
    version: Version,
    course: Course,
    step: Step,
    original: Version,
    tiles: Tiles,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Step:
    """Return a step with what its treatment learns from the sound that comes to it; itself if it learns nothing.

    Raises
    ------
    ParameterError
        If nothing can be learned there.
    CancelledError
        If ``is_cancelled`` says so.
    """
    treatment = treatment_of(step)
    if treatment.learn is None:
        return step
    sound = sound_before(version, course, step, original, tiles)
    spans = placed_spans(version, step, original)
    if not spans:
        raise ParameterError("The sound that this step is laid over is gone.")
    profile = treatment.learn(sound, spans, step.channels, step.settings, progress, is_cancelled)
    source = what_is_learned_from(version, course, step, original, tiles)
    return replace(step, profile=profile, learned_from=source, algorithm=treatment.version)
