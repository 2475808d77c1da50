"""Surveying a part: what is found there, in the frames of the whole."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from umbrick.core.course.laid import underneath
from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import SPANNING_KINDS, Finding
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

WHOLE_KINDS = (*SPANNING_KINDS, "hard_edge", "level_step", "slip")
"""Kinds that a part of a recording cannot be asked for: they mean all of it, or its ends, or come again and again."""

_CONTEXT_SECONDS = 10.0


def local_kinds() -> list[Kind]:
    """Return the kinds that a part can be surveyed for."""
    return [kind for name, kind in KINDS.items() if name not in WHOLE_KINDS]


def survey_span(
    version: Version,
    bits: int | None,
    kinds: Sequence[Kind],
    start: int,
    stop: int,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
    context_seconds: float = _CONTEXT_SECONDS,
) -> list[Finding]:
    """Return the findings that reach into a span of a version, measured anew with some seconds of what is around.

    Raises
    ------
    FileError
        If the recording fails.
    CancelledError
        If ``is_cancelled`` says so.
    """
    around = round(context_seconds * version.rate)
    first, last = max(0, start - around), min(version.frames, stop + around)
    part = Version.from_run(version.rate, version.channels, version.cut([first], [last]))
    under = underneath(version)
    beneath = None
    if under is not version:
        beneath = Version.from_run(under.rate, under.channels, under.cut([first], [last]))
    found = Surveyor(part, bits, kinds, beneath=beneath).run(progress, is_cancelled)
    return [
        replace(finding, start=finding.start + first, stop=finding.stop + first)
        for finding in found.table.findings
        if finding.start + first < stop and finding.stop + first > start
    ]


def is_same(one: Finding, other: Finding, slack: int) -> bool:
    """Whether two findings are of one fault, a little apart in time at most."""
    return (
        one.kind == other.kind
        and one.start < other.stop + slack
        and other.start < one.stop + slack
        and not set(one.channels).isdisjoint(other.channels)
    )
