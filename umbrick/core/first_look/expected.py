"""What a proposal changes in the ten seconds of a recording that need it most; and whether that speaks against it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from umbrick.core.course.laid import Ground
from umbrick.core.course.step import Course
from umbrick.core.first_look.doing import laid
from umbrick.core.first_look.hearing import mended_within
from umbrick.core.first_look.moments import Moment, worst_stretch
from umbrick.core.first_look.proposal import Proposal
from umbrick.core.measure.loudness_line import Levels, loudness_line, quietest_stretch
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock, format_db

_SECONDS = 10.0
_QUIET_PERCENTILE, _LOUD_PERCENTILE = 10, 95
_NEAR_SECONDS = 0.02
_EMPTY_DBFS = -120.0
_NOTICED_DB, _LOUDER_DB, _SOFTER_DB = 0.15, 0.5, -2.5
_SPARE_THE_LOUD = "denoise", "dereverb"
_MOST_FOUND_AGAIN = 1 / 3


def weighed(
    proposal: Proposal,
    ground: Ground,
    course: Course,
    findings: Sequence[Finding],
    levels: Levels,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Proposal:
    """Return a proposal with what it is expected to change, advised no more if that speaks against it.

    Parameters
    ----------
    proposal : Proposal
    ground : Ground
    course : Course
        What is laid over it already.
    findings : sequence of Finding
        Those that are open.
    levels : ndarray
        The loudness line of the sound.
    is_cancelled : callable
    """
    if proposal.findings:
        return _mending(proposal, ground.version, findings, is_cancelled)
    return _laying(proposal, ground, course, levels) if proposal.step is not None else proposal


def _mending(
    proposal: Proposal, version: Version, findings: Sequence[Finding], is_cancelled: Callable[[], bool]
) -> Proposal:
    start, stop = worst_stretch(proposal.findings, _SECONDS, version.frames, version.rate)
    mended = mended_within([proposal], [Moment("", start, stop)], version, findings, is_cancelled)
    inside = [f for f in proposal.findings if start <= f.start < stop]
    again = _found_again(mended, start, stop, proposal.kind, inside)
    several = f"of {len(inside)} there, {again or 'none'} found again"
    one = "found again there" if again else "not found again there"
    told = f"In the ten seconds from {format_clock(start, version.rate, 0)}: {several if len(inside) > 1 else one}."
    made = replace(proposal, expected=told)
    if len(inside) > 1 and again >= _MOST_FOUND_AGAIN * len(inside):
        return _against(made, "Tried, many are found again.")
    return made


def _laying(proposal: Proposal, ground: Ground, course: Course, levels: Levels) -> Proposal:
    assert proposal.step is not None
    version = ground.version
    start, stop = quietest_stretch(levels, _SECONDS, version.frames, version.rate)
    after = ground.through(laid([proposal.step], course))
    before = loudness_line(ground.through(course), start, stop)
    changed = [0.0, 0.0]
    # What a gate has emptied says nothing: a trace of what is beside it is louder than nothing.
    sounding = before > _EMPTY_DBFS
    if sounding.any():
        percentiles = _QUIET_PERCENTILE, _LOUD_PERCENTILE
        treated = loudness_line(after, start, stop)[sounding]
        changed = (np.percentile(treated, percentiles) - np.percentile(before[sounding], percentiles)).tolist()
    quiet, loud = changed
    where = f"In the quietest ten seconds, from {format_clock(start, version.rate, 0)}"
    made = replace(proposal, expected=f"{where}: quiet moments {_change(quiet)}, loud ones {_change(loud)}.")
    if proposal.method == "normalize":
        return made
    if quiet > _LOUDER_DB:
        return _against(made, "Tried, it leaves quiet moments louder.")
    if proposal.method in _SPARE_THE_LOUD and loud < _SOFTER_DB:
        return _against(made, "Tried, it lowers loud moments too: what it takes is part of the sound.")
    if max(abs(quiet), abs(loud)) < _NOTICED_DB:
        return _against(made, "Tried, it changes hardly anything.")
    return made


def _against(proposal: Proposal, why: str) -> Proposal:
    return replace(proposal, is_advised=False, reason=f"{proposal.reason} {why}") if proposal.is_advised else proposal


def _change(level_db: float) -> str:
    return "as they are" if abs(level_db) < _NOTICED_DB else format_db(level_db, "dB")


def _found_again(mended: Version, start: int, stop: int, kind: str, inside: Sequence[Finding]) -> int:
    """Return how many of some findings a survey of a stretch, and as much beside it, still finds once it is mended."""
    beside = round(_SECONDS * mended.rate)
    start, stop = max(0, start - beside), min(mended.frames, stop + beside)
    part = Version.from_run(mended.rate, mended.channels, mended.cut([start], [stop]))
    near = round(_NEAR_SECONDS * mended.rate)
    found = [f for f in Surveyor(part, None, [KINDS[kind]]).run().sifted({}) if f.kind == kind]
    return sum(any(g.start + start < f.stop + near and g.stop + start > f.start - near for g in found) for f in inside)
