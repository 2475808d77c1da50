"""Collapsing: takes out a held or repeated piece of sound so that rhythm and pitch go on."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.signal import find_peaks

from umbrick.core.errors import ParameterError
from umbrick.core.measure.jumps import OwnJumps
from umbrick.core.mend import bridge, graft, splice
from umbrick.core.mend.crossfade import AUTO, chosen_shape
from umbrick.core.mend.donors import correlated
from umbrick.core.mend.making import remade
from umbrick.core.mend.method import Excerpt, Method, Parameter, Parameters, Reworked, Stretch
from umbrick.core.mend.place import Place, mask_of
from umbrick.core.mend.seams import Seam, read_seam
from umbrick.core.sound.source import Source
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

Wave = npt.NDArray[np.float64]

_WIDTH_SECONDS = 0.012
"""How much on either side of a join is compared: one cycle of a low voice at least."""

_EARLIER_SECONDS, _LATER_SECONDS, _STEP_SECONDS = 0.014, 0.006, 0.0005
"""How far from the place's start it may be left. What comes again exactly is alike on both sides of a join that lies
before its start by what is compared."""

_NEAR_SECONDS = 0.008
"""So much more or less than the place may go, if nothing is asked for."""

_FAR_SECONDS = 0.04
_APART_SECONDS = 0.002
_ASTRAY = 0.4
"""What a join at the end of the search costs more than one that takes out just the place, in likeness."""

_FADE_SECONDS = 0.006
_SHORTEST_SECONDS = 0.002


class Join(NamedTuple):
    """A cut from ``out`` to ``into``, and how alike the sound is around both: from −1 to 1."""

    out: int
    into: int
    likeness: float

    @property
    def removed(self) -> int:
        """Frames that go."""
        return self.into - self.out


def joins(source: Source, place: Place, removed: int | None = None, count: int = 5) -> list[Join]:
    """Return ways to take out a place, best first, that differ in how much goes.

    Parameters
    ----------
    source : Source
    place : Place
        What is held or comes again.
    removed : int, optional
        Frames that are to go, to within a third of a millisecond; by default about as many as the place has.
    count : int
        At most so many.

    Notes
    -----
    What comes before and after a join is compared by cross-correlation, as a share of the mean power, with what came
    before and after the other side of it, as in waveform-similarity overlap-add (W. Verhelst, M. Roelands, 1993): where
    both are alike, the crossfade goes from one turn of the wave into the same turn of another.
    """
    rate = source.rate
    width, step = round(_WIDTH_SECONDS * rate), max(1, round(_STEP_SECONDS * rate))
    wanted = place.stop - place.start if removed is None else removed
    slack = round(_FAR_SECONDS * rate) if removed is None else max(1, rate // 3000)
    shortest = max(1, min(wanted, round(_SHORTEST_SECONDS * rate)))
    low, high = max(shortest, wanted - slack), wanted + slack
    earlier, later = round(_EARLIER_SECONDS * rate), round(_LATER_SECONDS * rate)
    outs = np.arange(max(width, place.start - earlier), min(source.frames, place.start + later) + 1, step)
    if not len(outs):
        return [Join(place.start, min(source.frames, place.start + wanted), 0.0)]
    first = int(outs[0]) - width
    sound = source.read(first, min(source.frames, int(outs[-1]) + high + width)).astype(np.float64)
    wave = sound[:, list(place.channels)]
    lengths = np.arange(low, high + 1)
    best, at = np.full(len(lengths), -2.0), np.zeros(len(lengths), np.int64)
    for out in outs.tolist():
        likeness = _likeness(wave, out - first, width, low, high)
        better = likeness > best[: len(likeness)]
        best[: len(likeness)][better] = likeness[better]
        at[: len(likeness)][better] = out
    usable = best > -2.0
    if not usable.any():
        return [Join(place.start, min(source.frames, place.start + wanted), 0.0)]
    cost = _ASTRAY * np.abs(lengths - wanted) / max(1, round(_NEAR_SECONDS * rate))
    worth = np.where(usable, best - cost, -9.0)
    peaks = np.union1d(find_peaks(worth, distance=max(1, round(_APART_SECONDS * rate)))[0], [int(np.argmax(worth))])
    ranked = sorted(peaks.tolist(), key=lambda row: -worth[row])[:count]
    return [Join(int(at[row]), int(at[row] + lengths[row]), float(best[row])) for row in ranked]


def _likeness(wave: Wave, out: int, width: int, low: int, high: int) -> Wave:
    """Return how alike the sound around ``out`` is to that ``low`` to ``high`` frames later: 1 if it is the same, less
    where it is another sound or another level, as a held cycle fades."""
    template = wave[out - width : out + width]
    region = wave[out + low - width : out + high + width]
    if len(region) < len(template) or len(template) < 2 * width:
        return np.zeros(0)
    products = correlated(region, template)
    sums = np.concatenate([[0.0], np.cumsum((region**2).sum(axis=1))])
    powers = np.maximum(sums[2 * width :] - sums[: -2 * width], 0.0)
    mean = (powers + float((template**2).sum())) / 2
    return np.where(mean > 1e-18, products / np.maximum(mean, 1e-18), 0.0)


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
    removed = parameters["removed_ms"]
    frames = None if removed == AUTO else round(float(removed) * version.rate / 1000)
    join = joins(version, place, frames, count=1)[0]
    fade = parameters["crossfade_ms"]
    fade_frames = round((_FADE_SECONDS if fade == AUTO else float(fade) / 1000) * version.rate)
    half = fade_frames // 2
    around = version.read_exact(max(0, join.out - half), min(version.frames, join.out + half))
    into = version.read_exact(max(0, join.into - half), min(version.frames, join.into + half))
    shape = chosen_shape(around, into, AUTO) if len(around) == len(into) else "s"
    reading = read_seam(version, join.out, join.into, fade_frames, shape, OwnJumps(version, join.out, join.into))
    seam = Seam(join.out, join.into, fade_frames, shape, reading, 0.0)
    done = splice.cut(version, place, seam, {"time": parameters["time"]})
    exact = dict(parameters) | {
        "removed_ms": 1000.0 * join.removed / version.rate,
        "crossfade_ms": 1000.0 * fade_frames / version.rate,
    }
    return done._replace(parameters=exact)


def _filled(version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool]) -> Reworked:
    """Return the place with what is held in it replaced by sound of the same length."""
    if place.stop - place.start > bridge.LONGEST_SECONDS * version.rate:
        fade = round(graft.CROSSFADE_MS * version.rate / 1000)
        found = graft.filled(version, place, AUTO, fade, is_cancelled=is_cancelled)
        return Reworked((found.stretch,), place, parameters, found.score)
    context = round(bridge.METHOD.context({"using": AUTO}) * version.rate)
    start, stop = max(0, place.start - context), min(version.frames, place.stop + context)
    mask = mask_of([place], start, stop, version.channels)
    rebuilt = bridge.rebuild(Excerpt(version.read(start, stop), version.rate, mask, mask), {}, is_cancelled)
    inside = rebuilt[place.start - start : place.stop - start]

    def made(present: Wave, at: int) -> Wave:
        return inside[at - place.start :][: len(present), list(place.channels)]

    stretch = Stretch(place.start, place.stop, remade(version, place, made, Nature.REBUILT))
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
            "length of the crossfade from one turn of the wave into the other; auto takes 6",
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
    context_seconds=0.1,
    rework=rework,
    time_shift="some",
)
