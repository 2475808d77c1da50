"""Fades: in or out, to silence or to the room tone."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.mend.making import Wave, remade
from umbrick.core.mend.method import Method, Parameter, Parameters, Reworked, Stretch
from umbrick.core.mend.place import Place
from umbrick.core.mend.room_tone import room_tone_near
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

SHAPES = ("linear", "equal_power", "s", "log")
_LOG_RANGE_DB = 60.0


def fade_gain(frames: int, shape: str) -> Wave:
    """Return the gain of a fade in, shape ``(frames, 1)``: from 0 before the first frame to 1 at the end.

    ``linear``; ``equal_power``, a quarter of a sine; ``s``, a raised cosine; ``log``, straight in dB over the upper
    60 dB, and from there down to nothing.
    """
    t = np.arange(frames) / max(1, frames)
    gains = {
        "linear": t,
        "equal_power": np.sin(np.pi / 2 * t),
        "s": 0.5 - 0.5 * np.cos(np.pi * t),
        "log": np.where(t > 0, 10 ** (_LOG_RANGE_DB * (t - 1) / 20), 0.0),
    }
    return np.asarray(gains[shape])[:, np.newaxis]


def rework(version: Version, place: Place, parameters: Parameters, _: Callable[[], bool]) -> Reworked:
    """Return the place faded from its start to its end.

    With ``to`` set to ``room_tone``, what fades goes over into more of the nearest pause, at equal power.
    """
    frames = place.stop - place.start
    gain = fade_gain(frames, str(parameters["shape"]))
    if parameters["direction"] == "out":
        gain = gain[::-1]
    tone = np.zeros((frames, 1))
    if parameters["to"] == "room_tone":
        tone = room_tone_near(version, place.start, frames)[:, list(place.channels)]

    def make(sound: Wave, at: int) -> Wave:
        part = slice(at - place.start, at - place.start + len(sound))
        return np.asarray(sound * gain[part] + tone[part] * np.sqrt(1 - gain[part] ** 2))

    pieces = remade(version, place, make, Nature.RELEVELLED)
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
    context_seconds=0.0,
    rework=rework,
    nature=Nature.RELEVELLED,
)
