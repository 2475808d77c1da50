"""Collapsing: takes out a held or repeated piece of sound so that rhythm and pitch go on."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import ParameterError
from umbrick.core.measure.jumps import OwnJumps, SeamReading
from umbrick.core.mend.cutting import splice
from umbrick.core.mend.cutting.crossfade import AUTO
from umbrick.core.mend.cutting.joins import Join, joins
from umbrick.core.mend.cutting.seams import measured, read_joined
from umbrick.core.mend.cutting.splice import Cut
from umbrick.core.mend.filling import bridge, graft
from umbrick.core.mend.making import already_made
from umbrick.core.mend.method import Excerpt, Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place, mask_of
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

Wave = npt.NDArray[np.float64]

_FADE_SECONDS = 0.006
_REBUILT_SECONDS = 0.002
"""So much on either side of a held cycle's edges is rebuilt: both may break, by a little or by much."""

_FARTHEST_EDGE_SECONDS = 0.008
"""A start that lies farther from the join is left as it is."""

_BOTH_SIDES: Parameters = {"using": "prediction"}


def taken_out(
    version: Version,
    place: Place,
    removed: int | None = None,
    fade: int | None = None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> tuple[Cut, SeamReading]:
    """Return the cut that takes out a place best, and how it measures.

    Parameters
    ----------
    version : Version
    place : Place
    removed : int, optional
        Frames that are to go, as in ``joins``.
    fade : int, optional
        Frames of its crossfade. By default 6 ms where something comes again; a held cycle breaks off, and none of that
        may be left: there, the samples about the join are rebuilt instead.
    is_cancelled : callable
    """
    join = joins(version, place, removed, count=1)[0]
    if join.is_held and fade is None:
        return _rebuilt_over(version, join, place.start, is_cancelled)
    usual = round(_FADE_SECONDS * version.rate)
    fade = usual if fade is None else fade
    behind = min(fade, usual) // 2 if join.is_held else 0
    out, into = join.out + behind, join.into + behind
    seam = measured(version, out, into, fade, AUTO, OwnJumps(version, out, into))
    return Cut.at(version, seam), seam.reading


def _rebuilt_over(
    version: Version, join: Join, start: int, is_cancelled: Callable[[], bool]
) -> tuple[Cut, SeamReading]:
    """Return a cut that is rebuilt over the join, and over the place's start if that lies a little before it."""
    beside = max(1, round(_REBUILT_SECONDS * version.rate))
    left_of_it = max(0, join.out - start)
    if left_of_it > _FARTHEST_EDGE_SECONDS * version.rate:
        left_of_it = 0
    before = min(join.out, beside + left_of_it)
    after = min(version.frames - join.into, beside)
    context = round(bridge.HOW.context(_BOTH_SIDES) * version.rate)
    left = version.read_exact(max(0, join.out - before - context), join.out)
    right = version.read_exact(join.into, min(version.frames, join.into + after + context))
    sound, at = np.concatenate([left, right]), len(left)
    inside = slice(at - before, at + after)
    mask = np.zeros(sound.shape, np.bool_)
    mask[inside] = True
    excerpt = Excerpt(sound.astype(np.float32), version.rate, mask, mask)
    sound[inside] = bridge.rebuild(excerpt, _BOTH_SIDES, is_cancelled)[inside]
    own = OwnJumps(version, join.out, join.into)
    reading = read_joined(sound, at, inside.start, inside.stop, own)
    return Cut(join.out, join.into, before, after, sound[inside]), reading


def rework(version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool]) -> Reworked:
    """Return the place taken out, or filled so that the length stays.

    Raises
    ------
    ParameterError
        If nothing would be left, or the time is to be paid back and there is no pause.
    """
    if parameters["time"] == "keep":
        return _filled(version, place, parameters, is_cancelled)
    if place.start == 0 and place.stop == version.frames:
        raise ParameterError("Nothing would be left.", "Select less than the whole recording.")
    removed, fade = (
        None if parameters[name] == AUTO else round(float(parameters[name]) * version.rate / 1000)
        for name in ("removed_ms", "crossfade_ms")
    )
    cut, reading = taken_out(version, place, removed, fade, is_cancelled)
    exact = dict(parameters) | {"removed_ms": 1000.0 * cut.removed / version.rate}
    return splice.cut_with(version, place, cut, exact, reading.score)


def _filled(version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool]) -> Reworked:
    """Return the place with what is held in it replaced by sound of the same length."""
    if place.stop - place.start > bridge.LONGEST_SECONDS * version.rate:
        fade = round(graft.CROSSFADE_MS * version.rate / 1000)
        found = graft.filled(version, place, AUTO, fade, is_cancelled=is_cancelled)
        return Reworked((found.stretch,), place, parameters, found.score)
    context = round(bridge.HOW.context({"using": AUTO}) * version.rate)
    start, stop = max(0, place.start - context), min(version.frames, place.stop + context)
    mask = mask_of([place], start, stop, version.channels)
    rebuilt = bridge.rebuild(Excerpt(version.read(start, stop), version.rate, mask, mask), {}, is_cancelled)
    stretch = Stretch(place.start, place.stop, already_made(version, place, rebuilt, start, Nature.REBUILT))
    return Reworked((stretch,), place, parameters, graft.score(version, place, stretch))


METHOD = Method(
    name="collapse",
    title="Collapse",
    summary="Takes out a held or repeated piece of sound so that rhythm and pitch go on.",
    parameters=(
        splice.TIME,
        Parameter(
            "crossfade_ms",
            "number",
            AUTO,
            "length of the crossfade from one turn of the wave into the other; auto takes 6, and none where a held "
            "cycle broke off: there it rebuilds 2 on either side",
            (AUTO,),
            "ms",
            0.0,
            500.0,
        ),
        Parameter(
            "removed_ms",
            "number",
            AUTO,
            "how much goes; auto takes about the place, where the sound is most alike",
            (AUTO,),
            "ms",
            0.0,
            10000.0,
        ),
    ),
    does=Reworking(rework, time_shift="some"),
)
