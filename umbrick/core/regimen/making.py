"""Making a regimen of what was done to one recording, for others of its kind."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from umbrick.core.course.acting import acts
from umbrick.core.course.step import Course
from umbrick.core.errors import ParameterError
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.registry import METHODS, method_named
from umbrick.core.regimen.regimen import ALL, PAUSES, Regimen, Step, Where
from umbrick.core.timeline.history import Mend

_ADAPTIVE = "adaptive"


class Drawn(NamedTuple):
    """A regimen drawn from one recording, and how many mends and steps have no place in it: those made by hand at a
    place of their own."""

    regimen: Regimen
    left_out: int


def regimen_of(name: str, mends: Sequence[Mend], course: Course, kinds: Mapping[str, str]) -> Drawn:
    """Return what was done as a regimen.

    Mends of findings become a step for each method and its settings, on all findings of the kinds it mended; steps of
    the course stay what they are where they mean all of the recording, or its pauses.

    Parameters
    ----------
    name : str
    mends : sequence of Mend
        Those that act.
    course : Course
    kinds : mapping of str to str
        The kinds of findings by their ids.

    Raises
    ------
    ParameterError
        If nothing of it could be done to another recording.
    """
    used: Counter[tuple[str, str]] = Counter()
    settings: dict[tuple[str, str], Counter[str]] = {}
    by_text: dict[str, Parameters] = {}
    left_out = 0
    for mend in mends:
        own = sorted({kinds[finding] for finding in mend.finding_ids if finding in kinds})
        if not own or mend.method not in METHODS:
            left_out += 1
            continue
        key = mend.method, ",".join(own)
        used[key] += 1
        text = repr(sorted(mend.parameters.items()))
        by_text[text] = mend.parameters
        settings.setdefault(key, Counter())[text] += 1
    steps = []
    for (method, own_kinds), _ in used.most_common():
        # What most of them were mended with holds for all.
        chosen = by_text[settings[method, own_kinds].most_common(1)[0][0]]
        held = method_named(method)
        known = {name: value for name, value in chosen.items() if any(p.name == name for p in held.parameters)}
        steps.append(Step(held, Where.parsed(f"findings:{own_kinds}"), held.checked(known)))
    for laid in course:
        if not acts(laid):
            continue
        if laid.spans is not None and laid.where != PAUSES:
            left_out += 1
            continue
        held = method_named(laid.method)
        given = dict(laid.settings)
        if any(character.isdigit() for character in str(given.get("print", ""))):
            given["print"] = _ADAPTIVE  # the print of this recording's noise is no other's
        steps.append(Step(held, Where.parsed(ALL if laid.spans is None else PAUSES), held.checked(given)))
    if not steps:
        raise ParameterError(
            "Nothing that was done here can be done to another recording.",
            "Mend findings, or lay steps of the course over all of it.",
        )
    return Drawn(Regimen(name, tuple(steps)), left_out)
