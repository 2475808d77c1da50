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
from umbrick.core.mend.crossfade import AUTO
from umbrick.core.mend.donors import correlated
from umbrick.core.mend.making import remade
from umbrick.core.mend.method import Excerpt, Method, Parameter, Parameters, Reworked, Stretch
from umbrick.core.mend.place import Place, mask_of
from umbrick.core.mend.seams import Seam, measured
from umbrick.core.model.autoregression import modelled
from umbrick.core.sound.source import Source
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

Wave = npt.NDArray[np.float64]
Frames = npt.NDArray[np.int64]

_FADE_SECONDS = 0.006


class _Where(NamedTuple):
    """Between which seconds about the place's end a join may lie, and how many before and after it are compared."""

    first: float
    last: float
    before: float
    after: float


_AGAIN = _Where(-0.014, 0.006, 0.012, 0.012)
"""What comes again ends as it did the first time: a join among that leaves its end, which goes on by itself."""

_HELD = _Where(0.004, 0.010, 0.003, 0.012)
"""What was held breaks off at its end: a join behind has nothing of that in its crossfade. Its start goes on by itself.
One cycle of a low voice is compared."""

_STEP_SECONDS = 0.0005
_THE_SAME = 0.985
_ORDER, _EDGE_SECONDS, _BESIDE_SECONDS = 32, 0.003, 0.1
_BREAKS_MORE = 1.4

_NEAR_SECONDS = 0.008
"""So much more or less than the place may go, if nothing is asked for."""

_FAR_SECONDS = 0.04
_APART_SECONDS = 0.002
_ASTRAY, _LATE = 0.4, 0.1
"""What it costs in likeness to take out so much more or less than the place, and to join at the end of the search."""

_SHORTEST_SECONDS = 0.002
_UNKNOWN = -9.0


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
    Where the place breaks from what is before it, or ends just as that does, it comes again, and the join lies before
    its end; otherwise it was held, and the join lies behind. What comes there, and what came so many frames before,
    are compared by cross-correlation, as a share of the mean power, as in waveform-similarity overlap-add
    (W. Verhelst, M. Roelands, 1993): the crossfade goes from one turn of the wave into the same turn of another.
    """
    rate = source.rate
    wanted = place.stop - place.start if removed is None else removed
    slack = round(_FAR_SECONDS * rate) if removed is None else max(1, rate // 3000)
    shortest = max(1, min(wanted, round(_SHORTEST_SECONDS * rate)))
    lengths = np.arange(max(shortest, wanted - slack), wanted + slack + 1)
    cost = _ASTRAY * np.abs(lengths - wanted) / max(1, round(_NEAR_SECONDS * rate))
    best, at = _most_alike(source, place, lengths, _AGAIN)
    if best[np.argmax(best - cost)] < _THE_SAME and not _breaks_at_its_start(source, place):
        best, at = _most_alike(source, place, lengths, _HELD)
    if best.max() == _UNKNOWN:
        return [Join(place.start, min(source.frames, place.start + wanted), 0.0)]
    worth = np.where(best > _UNKNOWN, best - cost, _UNKNOWN)
    peaks = np.union1d(find_peaks(worth, distance=max(1, round(_APART_SECONDS * rate)))[0], [int(np.argmax(worth))])
    ranked = sorted(peaks.tolist(), key=lambda row: -worth[row])[:count]
    return [Join(int(at[row] - lengths[row]), int(at[row]), float(best[row])) for row in ranked]


def _breaks_at_its_start(source: Source, place: Place) -> bool:
    """Return whether linear prediction is surprised more where a place starts than where it ends."""
    beside, edge = round(_BESIDE_SECONDS * source.rate), max(1, round(_EDGE_SECONDS * source.rate))
    first = max(0, place.start - beside)
    sound = source.read(first, min(source.frames, place.stop + beside)).astype(np.float64)
    wave = sound[:, list(place.channels)].mean(axis=1)
    model = modelled(wave, _ORDER)
    if model is None:
        return True
    surprise = np.abs(np.convolve(wave, model.error_filter))
    at_start, at_stop = (surprise[max(0, at - first - edge) : at - first + edge] for at in (place.start, place.stop))
    return float(at_start.max()) > _BREAKS_MORE * float(at_stop.max())


def _most_alike(source: Source, place: Place, lengths: Frames, where: _Where) -> tuple[Wave, Frames]:
    """Return how alike both sides of the best join are that takes out so many frames, and the frame it goes into."""
    best, at = np.full(len(lengths), _UNKNOWN), np.zeros(len(lengths), np.int64)
    for later in np.arange(where.first, where.last, _STEP_SECONDS):
        into = place.stop + round(later * source.rate)
        likeness = _likeness(source, into, lengths, place.channels, where)
        likeness -= _LATE * (later - where.first) / (where.last - where.first)
        better = likeness > best
        best[better] = likeness[better]
        at[better] = into
    return best, at


def _likeness(source: Source, into: int, lengths: Frames, channels: tuple[int, ...], where: _Where) -> Wave:
    """Return how alike the sound around ``into`` is to that so many frames before: 1 if it is the same, less where it
    is another sound or another level, as a held cycle fades; and ``_UNKNOWN`` where the recording ends too near by."""
    before, after = (round(seconds * source.rate) for seconds in (where.before, where.after))
    likeness = np.full(len(lengths), _UNKNOWN)
    count = int(np.searchsorted(lengths, into - before, "right"))
    if into + after > source.frames or not count:
        return likeness
    low, high = int(lengths[0]), int(lengths[count - 1])
    template = source.read(into - before, into + after).astype(np.float64)[:, list(channels)]
    region = source.read(into - high - before, into - low + after).astype(np.float64)[:, list(channels)]
    products = correlated(region, template)
    sums = np.concatenate([[0.0], np.cumsum((region**2).sum(axis=1))])
    powers = np.maximum(sums[len(template) :] - sums[: -len(template)], 0.0)
    mean = (powers + float((template**2).sum())) / 2
    likeness[:count] = np.where(mean > 1e-18, products / np.maximum(mean, 1e-18), 0.0)[::-1]
    return likeness


def seam_of(source: Source, place: Place, removed: int | None = None, fade: int | None = None) -> Seam:
    """Return the cut that takes out a place best.

    Parameters
    ----------
    source : Source
    place : Place
    removed : int, optional
        Frames that are to go, as in ``joins``.
    fade : int, optional
        Frames of its crossfade, by default 6 ms.
    """
    join = joins(source, place, removed, count=1)[0]
    fade = round(_FADE_SECONDS * source.rate) if fade is None else fade
    return measured(source, join.out, join.into, fade, AUTO, OwnJumps(source, join.out, join.into))


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
    removed, fade = parameters["removed_ms"], parameters["crossfade_ms"]
    seam = seam_of(
        version,
        place,
        None if removed == AUTO else round(float(removed) * version.rate / 1000),
        None if fade == AUTO else round(float(fade) * version.rate / 1000),
    )
    done = splice.cut(version, place, seam, {"time": parameters["time"]})
    exact = dict(parameters) | {
        "removed_ms": 1000.0 * seam.removed / version.rate,
        "crossfade_ms": 1000.0 * seam.fade / version.rate,
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
