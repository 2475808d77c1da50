"""Making a step, and learning what its treatment has to know of the sound that comes to it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from umbrick.core.course.acting import treatment_of
from umbrick.core.course.laid import Ground
from umbrick.core.course.step import Course, Profile, Spans, Step, free_id, merged
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameters
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.version import Version

_WHERE_FOUND = "all that was found"


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
    treatment = treatment_of(step)
    if not treatment.measures:
        return ""
    places = ground.placed(step) if treatment.places is None else ""
    asked = "".join(f":{step.settings[name]}" for name in treatment.measured_by)
    return f"{sound_before(ground, course, step).key}:{places}{asked}"


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
    if not treatment.measures:
        return step
    spans = ground.placed(step)
    if not spans:
        raise ParameterError("The sound that this step is laid over is gone.")
    sound = sound_before(ground, course, step)
    source = what_is_learned_from(ground, course, step)
    if treatment.places is not None:
        # Found again, they are sought in all that lies between the first and the last.
        within = [(0, ground.version.frames)] if step.where else [(spans[0][0], spans[-1][1])]
        spans = tuple(treatment.places(sound, within, step.settings, progress, is_cancelled))
        where = _WHERE_FOUND if within[0] == (0, ground.version.frames) else ""
        step = replace(step, spans=merged(map_spans(ground.version, ground.original, spans)), where=where)
    profile: Profile = {}
    if treatment.learn is not None:
        profile = treatment.learn(sound, spans, step.channels, step.settings, progress, is_cancelled)
    return replace(step, profile=profile, learned_from=source, algorithm=treatment.version)
