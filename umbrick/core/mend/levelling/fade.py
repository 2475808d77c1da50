"""Fades: in or out, to silence or to the room tone."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.mend.cutting.crossfade import shaped
from umbrick.core.mend.filling.room_tone import room_tone_near
from umbrick.core.mend.making import Wave, remade
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

SHAPES = ("linear", "equal_power", "s", "log")
_LOG_RANGE_DB = 60.0


def fade_gain(frames: int, shape: str, start: int = 0, stop: int | None = None) -> Wave:
    """Return the gain of a fade in, or of a part of it, shape ``(stop - start, 1)``.

    It goes from 0 before the first of its frames to 1 at the end: ``linear``; ``equal_power``, a quarter of a sine;
    ``s``, a raised cosine; ``log``, straight in dB over the upper 60 dB, and from there down to nothing.
    """
    t = np.arange(start, frames if stop is None else stop) / max(1, frames)
    if shape == "log":
        return np.where(t > 0, 10 ** (_LOG_RANGE_DB * (t - 1) / 20), 0.0)[:, np.newaxis]
    return shaped(t, shape)[:, np.newaxis]


def rework(version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool]) -> Reworked:
    """Return the place faded from its start to its end.

    With ``to`` set to ``room_tone``, what fades goes over into more of the nearest pause, at equal power.
    """
    frames, shape = place.stop - place.start, str(parameters["shape"])
    goes_out = parameters["direction"] == "out"
    tone = room_tone_near(version, place.start, frames) if parameters["to"] == "room_tone" else None

    def make(sound: Wave, at: int) -> Wave:
        # Just what this block needs: a fade may be an hour long.
        start = at - place.start
        stop = start + len(sound)
        gain = (
            fade_gain(frames, shape, frames - stop, frames - start)[::-1]
            if goes_out
            else fade_gain(frames, shape, start, stop)
        )
        if tone is None:
            return np.asarray(sound * gain)
        return np.asarray(sound * gain + tone[start:stop, list(place.channels)] * np.sqrt(1 - gain**2))

    pieces = remade(version, place, make, Nature.RELEVELLED, is_cancelled)
    return Reworked((Stretch(place.start, place.stop, pieces),), place, parameters)


METHOD = Method(
    name="fade",
    title="Fade",
    summary="Fades a place in or out, to silence or to the room tone.",
    parameters=(
        Parameter("direction", "choice", "in", "from nothing, or to nothing", ("in", "out")),
        Parameter("shape", "choice", "s", "how the level goes", SHAPES),
        Parameter("to", "choice", "silence", "what is left where the sound is gone", ("silence", "room_tone")),
    ),
    does=Reworking(rework, nature=Nature.RELEVELLED),
)
