"""Steps of the course as JSON, and what they have learned beside them: once, however often a setting is changed."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any

from umbrick.casebook.limits import LONGEST_NAME, LONGEST_TEXT
from umbrick.core.course.step import Profile, Step, merged
from umbrick.core.course.treatment import Treatment
from umbrick.core.mend.registry import method_named

Profiles = Mapping[str, Profile]
"""What steps have learned, by the name of its content."""

_MOST_SPANS = 1 << 16


def profile_text(profile: Profile) -> str:
    """Return a profile as text."""
    return json.dumps(profile, sort_keys=True)


def profile_key(profile: Profile) -> str:
    """Return the name of a profile's content; empty for an empty one."""
    return hashlib.blake2b(profile_text(profile).encode(), digest_size=16).hexdigest() if profile else ""


def pack_step(step: Step) -> list[Any]:
    """Return a step as plain values."""
    return [
        step.id,
        step.method,
        step.settings,
        list(step.channels),
        step.spans,
        step.where,
        step.is_on,
        profile_key(step.profile),
        step.learned_from,
        step.algorithm,
    ]


def unpack_step(row: Any, frames: int, channels: int, profiles: Profiles) -> Step:
    """Return a step on a recording of so many frames and channels.

    Raises
    ------
    ValueError, TypeError, KeyError, ParameterError
        If it makes no sense.
    """
    name, method, settings, on, spans, where, is_on, profile, learned_from, algorithm = row
    texts = (name, method, where, profile, learned_from)
    if not all(isinstance(text, str) and len(text) <= LONGEST_TEXT for text in texts) or len(name) > LONGEST_NAME:
        raise TypeError(texts)
    if not (isinstance(settings, dict) and type(is_on) is bool and type(algorithm) is int):
        raise TypeError(settings)
    held = None
    if spans is not None:
        held = tuple((start, stop) for start, stop in spans)
        whole = all(type(at) is int and 0 <= at <= frames for span in held for at in span)
        if not whole or len(held) > _MOST_SPANS or held != merged(held):
            raise ValueError(spans)
    if not on or not all(type(c) is int and 0 <= c < channels for c in on) or sorted(set(on)) != list(on):
        raise ValueError(on)
    kind = method_named(method)
    known = profiles[profile] if profile else {}
    if not (isinstance(kind.does, Treatment) and kind.does.is_profile(known, len(on))):
        raise ValueError(method)
    checked = kind.checked(settings)
    return Step(name, method, checked, tuple(on), held, where, is_on, known, learned_from, algorithm)
