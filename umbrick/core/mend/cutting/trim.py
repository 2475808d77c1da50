"""Trimming: keeps a place and takes everything else away, cut to an exact length."""

from __future__ import annotations

from collections.abc import Callable

from umbrick.core.errors import ParameterError
from umbrick.core.mend.cutting.crossfade import crossfaded
from umbrick.core.mend.levelling.fade import fade_gain
from umbrick.core.mend.making import standing_for
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.timeline.patch import Nature, Patch
from umbrick.core.timeline.version import Version
from umbrick.core.units import parse_frames

_ANY_RATE = 48000


def rework(version: Version, place: Place, parameters: Parameters, _: Callable[[], bool]) -> Reworked:
    """Return the recording without what is before and after the place.

    With a length, the place is as long as that, from its start. ``ends`` says what is done so that its ends do not
    click: nothing, a fade in and out, or a crossfade of what followed into its start, so that it loops.

    Raises
    ------
    ParameterError
        If the length is longer than what there is.
    """
    start, stop = place.start, place.stop
    if parameters["length"]:
        stop = start + parse_frames(str(parameters["length"]), version.rate)
    if not start < stop <= version.frames:
        raise ParameterError("The recording ends before that length.", "Type a shorter length, or start earlier.")
    fade = min(round(float(parameters["crossfade_ms"]) * version.rate / 1000), (stop - start) // 2)
    stretches = [Stretch(0, start, ())] if start else []
    if fade and parameters["ends"] != "leave":
        head, tail = version.read_exact(start, start + fade), version.read_exact(stop - fade, stop)
        if parameters["ends"] == "fade":
            gain = fade_gain(fade, "s")
            stretches.append(_made(version, start, Patch(head * gain, version.rate, Nature.RELEVELLED)))
            stretches.append(_made(version, stop - fade, Patch(tail * gain[::-1], version.rate, Nature.RELEVELLED)))
        else:
            follows = version.read_exact(stop, min(version.frames, stop + fade))
            if len(follows) < fade:
                raise ParameterError(
                    "Too little follows the end to lead it into the start.", "Fade the ends, or cut it shorter."
                )
            stretches.append(_made(version, start, Patch(crossfaded(follows, head), version.rate, Nature.REBUILT)))
    if stop < version.frames:
        stretches.append(Stretch(stop, version.frames, ()))
    return Reworked(tuple(stretches), place._replace(stop=stop), parameters)


def _made(version: Version, start: int, patch: Patch) -> Stretch:
    return Stretch(start, start + patch.frames, standing_for(version, start, start + patch.frames, patch))


METHOD = Method(
    name="trim",
    title="Trim",
    summary="Keeps a place, cut to an exact length if asked, and takes the rest of the recording away.",
    parameters=(
        Parameter(
            "length",
            "text",
            "",
            "typed time from the place's start, such as 2.5 s or 4 beats at 96",
            check=lambda text: parse_frames(text, _ANY_RATE) if text else 0,
        ),
        Parameter(
            "ends",
            "choice",
            "fade",
            "leave the ends, fade them, or lead what followed into the start, as a loop",
            ("leave", "fade", "loop"),
        ),
        Parameter("crossfade_ms", "number", 2.0, "length of the fades or of the crossfade", (), "ms", 0.0, 2000.0),
    ),
    does=Reworking(rework, time_shift="some"),
)
