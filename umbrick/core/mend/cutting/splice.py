"""Splicing: takes a place out and joins what is left, or closes the loop from its end to its start."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import ParameterError
from umbrick.core.measure.pauses import next_pause
from umbrick.core.mend.cutting.crossfade import AUTO, SHAPES, crossfaded
from umbrick.core.mend.cutting.seams import AUTO_CROSSFADES_MS, Seam, fade_reach, joined, seams
from umbrick.core.mend.filling import graft
from umbrick.core.mend.filling.room_tone import room_tone
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.sound.source import Source
from umbrick.core.timeline.patch import Nature, Patch
from umbrick.core.timeline.runs import NO_ORIGIN, Piece
from umbrick.core.timeline.version import Version

SEARCH_MS = 12.0
_LONGEST_FADE_SHARE = 0.5


def proposed(version: Version, place: Place, parameters: Parameters, count: int = 5) -> list[Seam]:
    """Return the cuts that splicing a place would choose from, best first."""
    search = round(float(parameters["search_ms"]) * version.rate / 1000)
    fades = fades_frames(parameters, version.rate)
    return seams(version, place.start, place.stop, place.channels, search, fades, str(parameters["curve"]), count)


def fades_frames(parameters: Parameters, rate: int) -> list[int]:
    """Return the lengths of the crossfade, in frames, that are to be tried, the shortest first."""
    milliseconds = parameters["crossfade_ms"]
    tried = AUTO_CROSSFADES_MS if milliseconds == AUTO else (float(milliseconds),)
    return [round(length * rate / 1000) for length in tried]


def fade_frames(parameters: Parameters, rate: int) -> int:
    """Return the crossfade's length in frames where just one is wanted."""
    return fades_frames(parameters, rate)[0]


def rework(version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool]) -> Reworked:
    """Return the place taken out, filled from beside, or its end joined to its start.

    Raises
    ------
    ParameterError
        If a shift is to be paid back and there is no pause, or nothing is left to join.
    """
    if parameters["seam"] == "loop":
        return _loop(version, place, parameters)
    if parameters["time"] == "keep":
        fade = fade_frames(parameters, version.rate)
        filled = graft.filled(version, place, AUTO, fade, is_cancelled=is_cancelled)
        return Reworked((filled.stretch,), place, parameters, filled.score)
    if place.start == 0 and place.stop == version.frames:
        raise ParameterError("Nothing would be left.", "Select less than the whole recording.")
    return cut(version, place, proposed(version, place, parameters, count=1)[0], parameters)


def cut(version: Version, place: Place, seam: Seam, parameters: Parameters) -> Reworked:
    """Return a cut made at a given seam."""
    done = cut_with(version, place, Cut.at(version, seam), parameters, seam.reading.score)
    exact = dict(parameters) | {
        "search_ms": 0.0,
        "curve": seam.shape,
        "crossfade_ms": 1000.0 * seam.fade / version.rate,
    }
    return done._replace(parameters=exact)


class Cut(NamedTuple):
    """A cut from ``out`` to ``into``, and what stands for so many frames before the one and after the other."""

    out: int
    into: int
    before: int
    after: int
    made: npt.NDArray[np.float64]

    @classmethod
    def at(cls, source: Source, seam: Seam) -> Cut:
        """Return the cut of a seam with its crossfade."""
        before, after = fade_reach(source.frames, seam.out, seam.into, seam.fade)
        made = joined(source, seam.out, seam.into, seam.fade, seam.shape)
        return cls(seam.out, seam.into, before, after, made)

    @property
    def removed(self) -> int:
        """Frames that go."""
        return self.into - self.out


def cut_with(version: Version, place: Place, cut: Cut, parameters: Parameters, score: float) -> Reworked:
    """Return a cut with what was made around it."""
    stretches = [_closed(version, cut)]
    if parameters["time"] == "payback":
        stretches.append(_paid_back(version, cut.into + cut.after, cut.removed))
    return Reworked(tuple(stretches), place._replace(start=cut.out, stop=cut.into), parameters, score)


def _closed(version: Version, cut: Cut) -> Stretch:
    """Return what stands instead of a cut's two sides: each part of what was made for its own side's sound."""
    start, stop = cut.out - cut.before, cut.into + cut.after
    if not len(cut.made):
        return Stretch(start, stop, ())
    patch = Patch(cut.made, version.rate, Nature.REBUILT)
    return Stretch(start, stop, (*_standing(version, patch, 0, start, cut.before),
                                 *_standing(version, patch, cut.before, cut.into, cut.after)))  # fmt: skip


def _standing(version: Version, patch: Patch, offset: int, start: int, frames: int) -> list[Piece]:
    return [
        Piece(patch, offset + at - start, piece.length, piece.origin)
        for piece, at in version.pieces(start, start + frames)
    ]


def _paid_back(version: Version, after: int, frames: int) -> Stretch:
    """Return the stretch that makes the next pause so many frames longer."""
    pause = next_pause(version, after)
    if pause is None:
        raise ParameterError(
            "There is no pause within the next minute to pay the time back in.", "Close up, or keep the length."
        )
    middle = (pause[0] + pause[1]) // 2
    fade = min((pause[1] - pause[0]) // 2, frames, version.rate // 20)
    before, later = version.read_exact(middle - fade, middle), version.read_exact(middle, middle + fade)
    tone = room_tone(version.read_exact(*pause), frames + 2 * fade, version.rate)
    # What follows in the recording goes over into the tone, and the tone into what came before it there.
    tone[:fade] = crossfaded(before, tone[:fade], "equal_power")
    tone[len(tone) - fade :] = crossfaded(tone[len(tone) - fade :], later, "equal_power")
    patch = Patch(tone, version.rate, Nature.GRAFTED)
    pieces = (
        *_standing(version, patch, 0, middle - fade, fade),
        Piece(patch, fade, frames, NO_ORIGIN),
        *_standing(version, patch, fade + frames, middle, fade),
    )
    return Stretch(middle - fade, middle + fade, pieces)


def _loop(version: Version, place: Place, parameters: Parameters) -> Reworked:
    """Return a loop whose start was mixed with what follows its end, so that the end goes over into it.

    Where nothing follows, the loop's own tail is taken, and the loop becomes shorter by the crossfade.
    """
    frames = place.stop - place.start
    fade = min(fade_frames(parameters, version.rate), int(frames * _LONGEST_FADE_SHARE))
    if fade < 1:
        return Reworked((), place, parameters)
    follows = version.frames - place.stop >= fade
    tail_start = place.stop if follows else place.stop - fade
    tail = version.read_exact(tail_start, tail_start + fade)
    head = version.read_exact(place.start, place.start + fade)
    mixed = head.copy()
    on = list(place.channels) if follows else list(range(version.channels))
    mixed[:, on] = crossfaded(tail[:, on], head[:, on], str(parameters["curve"]))
    patch = Patch(mixed, version.rate, Nature.REBUILT)
    stretches = [Stretch(place.start, place.start + fade, tuple(_standing(version, patch, 0, place.start, fade)))]
    if not follows:
        stretches.append(Stretch(tail_start, place.stop, ()))
    return Reworked(tuple(stretches), place, parameters)


TIME = Parameter(
    "time",
    "choice",
    "close",
    "close up, keep the length by filling it, or pay back in the next pause",
    ("close", "keep", "payback"),
)
"""What is to become of the time that is taken out."""

METHOD = Method(
    name="splice",
    title="Splice",
    summary="Takes a place out and joins what is left where it matches best.",
    parameters=(
        TIME,
        Parameter(
            "crossfade_ms",
            "number",
            AUTO,
            "length of the crossfade; auto takes the shortest that does well, up to 20",
            (AUTO,),
            "ms",
            0.0,
            2000.0,
        ),
        Parameter(
            "curve", "choice", AUTO, "shape of the crossfade; auto chooses by how alike both sides are", (AUTO, *SHAPES)
        ),
        Parameter(
            "search_ms",
            "number",
            SEARCH_MS,
            "how much more may go on either side for a better join; 0 cuts exactly",
            (),
            "ms",
            0.0,
            500.0,
        ),
        Parameter(
            "seam", "choice", "cut", "cut takes the place out; loop joins its end to its own start", ("cut", "loop")
        ),
    ),
    does=Reworking(rework, time_shift="some"),
)
