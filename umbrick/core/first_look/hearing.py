"""What the moments that stand for a recording would sound like with some proposals."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from umbrick.core.course.laid import Ground
from umbrick.core.course.step import Course
from umbrick.core.first_look.doing import laid
from umbrick.core.first_look.moments import Moment
from umbrick.core.first_look.proposal import Proposal
from umbrick.core.mend.applying import Mended, together_where_apart
from umbrick.core.mend.plan import apart, carried_out, planned
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.positions import map_position
from umbrick.core.timeline.version import Version

Wave = npt.NDArray[np.float32]

_FADE_SECONDS = 0.01
_NEAR_SECONDS = 7.0
"""Damage further away than this is of no use to any method's context."""


def heard(
    proposals: Sequence[Proposal],
    moments: Sequence[Moment],
    ground: Ground,
    course: Course,
    known: Sequence[Finding],
    is_cancelled: Callable[[], bool] = lambda: False,
    mended: dict[str, tuple[Mended, ...]] | None = None,
) -> list[Wave]:
    """Return the sound of each moment with proposals done there, faded in and out; see :func:`doing.done`.

    Steps act as they were learned when they were proposed. ``mended`` remembers what was mended of each kind, so that
    what is switched on again is heard at once.
    """
    version = mended_within(proposals, moments, ground.version, known, is_cancelled, mended)
    steps = [one.step for one in proposals if one.step is not None]
    outcome = replace(ground, version=version).through(laid(steps, course))
    return [_faded(_part(outcome, ground.version, moment), outcome.rate) for moment in moments]


def mended_within(
    proposals: Sequence[Proposal],
    spans: Sequence[Moment],
    version: Version,
    known: Sequence[Finding],
    is_cancelled: Callable[[], bool] = lambda: False,
    mended: dict[str, tuple[Mended, ...]] | None = None,
) -> Version:
    """Return a version in which just the findings of proposals that begin in some spans are mended.

    Each kind is mended on the version as it is, and remembered in ``mended``; of mends that overlap the later is left.
    """
    near = round(_NEAR_SECONDS * version.rate)
    minded = [f for f in known if any(f.start < s.stop + near and f.stop > s.start - near for s in spans)]
    held = {} if mended is None else mended
    made: list[Mended] = []
    for one in proposals:
        if not one.findings:
            continue
        if one.kind not in held:
            inside = tuple(f for f in one.findings if any(s.start <= f.start < s.stop for s in spans))
            batches = planned(apart(inside, version.rate), version)
            done = carried_out(version, batches, minded, is_cancelled=is_cancelled).mended if batches else None
            held[one.kind] = () if done is None else (done,)
        made += held[one.kind]
    return together_where_apart(version, made)[0].version if made else version


def _part(outcome: Version, before: Version, moment: Moment) -> Wave:
    start, stop = (min(map_position(before, outcome, at), outcome.frames) for at in (moment.start, moment.stop))
    return outcome.read(start, max(start, stop))


def _faded(sound: Wave, rate: int) -> Wave:
    length = min(len(sound) // 2, round(_FADE_SECONDS * rate))
    ramp = np.linspace(0, 1, length, endpoint=False, dtype=np.float32)[:, np.newaxis]
    made = sound.copy()
    made[:length] *= ramp
    made[len(made) - length :] *= ramp[::-1]
    return made
