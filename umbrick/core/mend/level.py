"""Level: raises or lowers a place, with ramps at its edges or along a curve."""

from __future__ import annotations

from umbrick.core.errors import ParameterError
from umbrick.core.mend.level_curve import HIGHEST_DB, LOWEST_DB, LevelCurve
from umbrick.core.mend.making import Wave, remade
from umbrick.core.mend.method import Method, Parameter, Parameters, Reworked, Stretch
from umbrick.core.mend.place import Place
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version


def curve_for(version: Version, place: Place, parameters: Parameters) -> LevelCurve:
    """Return the curve, in frames from the place's start, that parameters mean there.

    Raises
    ------
    ParameterError
        If it goes on beyond the place, or begins or ends with a jump inside the recording.
    """
    frames = place.stop - place.start
    if not parameters["curve"]:
        ramp = round(float(parameters["ramp_ms"]) * version.rate / 1000)
        return LevelCurve.step(frames, float(parameters["gain_db"]), ramp)
    curve = LevelCurve.parsed(str(parameters["curve"]))
    if curve.nodes[-1].frame > frames:
        raise ParameterError("The level curve goes on beyond its place.")
    begins_with_jump = place.start > 0 and curve.gain_db_at(0) != 0
    ends_with_jump = place.stop < version.frames and curve.gain_db_at(frames) != 0
    if begins_with_jump or ends_with_jump:
        raise ParameterError("A level curve begins and ends at 0 dB, unless the recording does there.")
    return curve


def rework(version: Version, place: Place, parameters: Parameters) -> Reworked:
    """Return the place with its level changed.

    Nothing outside the place changes: the ramps are inside it. Gains are straight lines in dB from node to node, so
    that no level change is a right angle.
    """
    curve = curve_for(version, place, parameters)

    def make(sound: Wave, at: int) -> Wave:
        return sound * curve.factors(at - place.start, at - place.start + len(sound))

    pieces = remade(version, place, make, Nature.RELEVELLED)
    return Reworked((Stretch(place.start, place.stop, pieces),), place, parameters)


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
    context_seconds=0.0,
    rework=rework,
    nature=Nature.RELEVELLED,
)
