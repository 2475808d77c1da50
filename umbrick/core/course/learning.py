"""Making a step, and learning what its treatment has to know of the sound that comes to it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from umbrick.core.course.acting import treatment_of
from umbrick.core.course.laid import Ground
from umbrick.core.course.step import Course, Spans, Step, free_id, merged
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameters
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


def sound_before(ground: Ground, course: Course, step: Step) -> Version:
    """Return the sound that comes to a step of a course, or would at its end."""
    index = next((at for at, other in enumerate(course) if other.id == step.id), len(course))
    return ground.through(course[:index])


def sound_after(ground: Ground, course: Course, step: Step) -> Version:
    """Return the sound that comes out of a step of a course."""
    index = next(at for at, other in enumerate(course) if other.id == step.id)
    return ground.through(course[: index + 1])


def what_is_learned_from(ground: Ground, course: Course, step: Step) -> str:
    """Return a name for the sound that a step learns from: another one when that has changed."""
    if treatment_of(step).learn is None:
        return ""
    return f"{sound_before(ground, course, step).key}:{ground.placed(step)}"


def learned(
    ground: Ground,
    course: Course,
    step: Step,
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
    spans = ground.placed(step)
    if not spans:
        raise ParameterError("The sound that this step is laid over is gone.")
    sound = sound_before(ground, course, step)
    profile = treatment.learn(sound, spans, step.channels, step.settings, progress, is_cancelled)
    source = what_is_learned_from(ground, course, step)
    return replace(step, profile=profile, learned_from=source, algorithm=treatment.version)
