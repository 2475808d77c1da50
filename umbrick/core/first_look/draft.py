"""Drafting a treatment from a survey and some measures."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from umbrick.core.course.laid import Ground
from umbrick.core.course.step import Course
from umbrick.core.first_look.expected import weighed
from umbrick.core.first_look.mends import DAMAGE, OF_A_LINE, mends_proposed
from umbrick.core.first_look.moments import representative
from umbrick.core.first_look.proposal import FirstLook
from umbrick.core.first_look.steps import (
    Laying,
    lay_for_faults,
    lay_for_level,
    lay_for_noise,
    lay_for_pauses,
    lay_for_room,
)
from umbrick.core.measure.loudness_line import loudness_line
from umbrick.core.survey.finding import Finding


def first_look(
    ground: Ground,
    course: Course,
    findings: Sequence[Finding],
    peak: float,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> FirstLook:
    """Return what had better be done with a recording, and what not; nothing for one that is clean.

    Parameters
    ----------
    ground : Ground
        The version that the findings are in.
    course : Course
        What is laid over it already.
    findings : sequence of Finding
        Those that are open.
    peak : float
        The highest sample, as an amplitude.
    progress, is_cancelled : callable
        Told the share done, from 0 to 1; asked whether to stop.

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so.
    """
    version = ground.version
    sound = ground.through(course)
    parts = _Parts(progress, 4)
    levels = loudness_line(sound, 0, sound.frames, parts.next(), is_cancelled)
    laying = Laying(ground, course, levels, parts.next(), is_cancelled)
    lay_for_faults(laying, findings, ("dc_offset", "rumble", "hum"))
    first = list(laying.made)
    mends = [found for kind, title in DAMAGE if (found := mends_proposed(version, findings, kind, title)) is not None]
    laying.made = []
    laying.progress = parts.next()
    under_loud_db = lay_for_noise(laying, findings)
    lay_for_room(laying)
    if under_loud_db is not None:
        lay_for_pauses(laying, under_loud_db)
    drafted, told = (*first, *mends, *laying.made), parts.next()
    proposals = []
    for number, one in enumerate(drafted):
        proposals.append(weighed(one, ground, course, findings, levels, is_cancelled))
        told((number + 1) / len(drafted))
    if not any(one.is_advised and one.kind in OF_A_LINE for one in proposals):
        # Sound that comes again was taken for a line's fault because of others, and these turned out to be none.
        proposals = [replace(one, is_advised=False) if one.kind == "stutter" else one for one in proposals]
    if any(one.is_advised for one in proposals):
        laying.made = []
        lay_for_level(laying, peak, any(one.is_advised and one.kind == "clipping" for one in proposals))
        proposals += [weighed(one, ground, course, findings, levels) for one in laying.made]
    sure = [finding for one in proposals if one.is_advised for finding in one.findings]
    return FirstLook(tuple(proposals), representative(levels, sure, version.frames, version.rate))


class _Parts:
    """Shares out what is told of the progress of so many parts."""

    def __init__(self, progress: Callable[[float], None], count: int) -> None:
        self._progress, self._count, self._at = progress, count, -1

    def next(self) -> Callable[[float], None]:
        """Return what the next part tells its own progress."""
        self._at += 1
        at = self._at
        return lambda share: self._progress((at + share) / self._count)
