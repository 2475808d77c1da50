"""What a step does: by which method, and whether it does anything."""

from __future__ import annotations

import hashlib
import json

from umbrick.core.course.step import STRENGTH, WITHIN_HZ, Course, Step
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.registry import method_named


def method_of(step: Step) -> Method:
    """Return the method that a step is made by; ParameterError if this program has none of that name."""
    return method_named(step.method)


def treatment_of(step: Step) -> Treatment:
    """Return how a step treats sound; ParameterError if this program does not know."""
    does = method_of(step).does
    if not isinstance(does, Treatment):
        raise ParameterError(f"“{step.method}” is no treatment.")
    return does


def told(step: Step) -> str:
    """Return what a step does in a few words; its method's name if this program does not know it."""
    try:
        return treatment_of(step).told(step.settings, step.profile)
    except ParameterError:
        return step.method


def acts(step: Step) -> bool:
    """Return whether a step changes anything at all."""
    wanted = step.is_on and step.amount > 0 and step.spans != ()
    return wanted and not treatment_of(step).changes_nothing(step.settings, step.profile)


def makes_all_anew(course: Course) -> bool:
    """Return whether a course leaves not one sample as it is on some channel."""
    return any(step.spans is None and acts(step) for step in course)


def sound_key(step: Step, version: int) -> str:
    """Return a name for what a step does to sound wherever it acts in full, by a version of its treatment."""
    settings = {name: value for name, value in step.settings.items() if name != STRENGTH}
    if not settings.get(WITHIN_HZ):
        # What was made before there were bands is the same sound.
        settings.pop(WITHIN_HZ, None)
    told = [step.method, version, settings, step.profile, step.channels]
    return hashlib.blake2b(json.dumps(told, sort_keys=True).encode(), digest_size=16).hexdigest()
