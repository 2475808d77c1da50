"""Level: raises or lowers a place, with ramps at its edges or along a curve."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.errors import ParameterError
from umbrick.core.mend.levelling.level_curve import HIGHEST_DB, LOWEST_DB, LevelCurve
from umbrick.core.mend.making import Wave, remade
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.sound.source import Samples, check_span
from umbrick.core.timeline.change import Change, replace
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version


def curve_of(parameters: Parameters, frames: int, rate: int) -> LevelCurve:
    """Return the curve that parameters mean on a place of so many frames, counted from its start."""
    if parameters["curve"]:
        return LevelCurve.parsed(str(parameters["curve"]))
    return LevelCurve.step(frames, float(parameters["gain_db"]), round(float(parameters["ramp_ms"]) * rate / 1000))


def rework(version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool]) -> Reworked:
    """Return the place with its level changed.

    Nothing outside the place changes: the ramps are inside it. Gains are straight lines in dB from node to node, so
    that no level change is a right angle.

    Raises
    ------
    ParameterError
        If the curve goes on beyond the place, or begins or ends with a jump inside the recording.
    """
    frames = place.stop - place.start
    curve = curve_of(parameters, frames, version.rate)
    if curve.nodes[-1].frame > frames:
        raise ParameterError("The level curve goes on beyond its place.")
    begins_with_jump = place.start > 0 and curve.gain_db_at(0) != 0
    ends_with_jump = place.stop < version.frames and curve.gain_db_at(frames) != 0
    if begins_with_jump or ends_with_jump:
        raise ParameterError("A level curve begins and ends at 0 dB, unless the recording does there.")

    def make(sound: Wave, at: int) -> Wave:
        return sound * curve.factors(at - place.start, at - place.start + len(sound))

    pieces = remade(version, place, make, Nature.RELEVELLED, is_cancelled)
    return Reworked((Stretch(place.start, place.stop, pieces),), place, parameters)


class _Levelled:
    """A source that is a span of a version with a level curve on it, worked out as it is read."""

    def __init__(self, version: Version, place: Place, curve: LevelCurve) -> None:
        self._version, self._place, self._curve = version, place, curve
        self.key = f"levelled:{version.key}:{place}:{curve.text}"
        self.rate, self.channels = version.rate, version.channels
        self.frames = self.available = place.stop - place.start

    def read(self, start: int, stop: int) -> Samples:
        return self.read_exact(start, stop).astype(np.float32)

    def read_exact(self, start: int, stop: int) -> Wave:
        check_span(start, stop, self.frames)
        sound = self._version.read_exact(self._place.start + start, self._place.start + stop)
        sound[:, list(self._place.channels)] *= self._curve.factors(start, stop)
        return sound


def levelled(version: Version, place: Place, curve: LevelCurve) -> Change:
    """Return the change that levels a place, for trying it: nothing is read or made until it is drawn or heard.

    It must not go into a history; :func:`rework` makes what does.
    """
    return replace(version, place.start, place.stop, _Levelled(version, place, curve))


METHOD = Method(
    name="level",
    title="Level",
    summary="Raises or lowers a place, with ramps at its edges or along a curve.",
    parameters=(
        Parameter(
            "gain_db", "number", 0.0, "by how much the place is raised, or lowered", (), "dB", LOWEST_DB, HIGHEST_DB
        ),
        Parameter("ramp_ms", "number", 20.0, "how long the ramps at both edges are", (), "ms", 0.5, 10000.0),
        Parameter(
            "curve",
            "text",
            "",
            "nodes FRAME:DB, counted from the place's start, instead of one gain and its ramps",
            check=LevelCurve.parsed,
        ),
    ),
    does=Reworking(rework, nature=Nature.RELEVELLED),
)
