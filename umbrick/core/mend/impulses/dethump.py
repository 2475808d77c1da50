"""Taking out thumps: the click is rebuilt, and the slow swing that it set going is subtracted from what follows."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.errors import ParameterError
from umbrick.core.measure.seam import seam_scores
from umbrick.core.mend.impulses.declick import LONGEST_EVENT_SECONDS, REACH_SECONDS, filled, rebuilt, within_reach
from umbrick.core.mend.making import Wave, already_made
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.model.low_swing import CONTEXT_SECONDS as SWING_CONTEXT_SECONDS
from umbrick.core.model.low_swing import low_swing
from umbrick.core.model.thump import CONTEXT_SECONDS, thump
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version


def rework(version: Version, place: Place, parameters: Parameters, _: Callable[[], bool]) -> Reworked:
    """Return a place's click rebuilt, and what follows it without the click's thump.

    Parameters
    ----------
    version : Version
    place : Place
        The click; up to 20 ms long.
    parameters : Parameters
        ``click``: ``none`` if there is none, and the place is the thump itself; ``rebuild`` finds how far the click
        reaches and rebuilds it; ``leave`` begins at the end of the place, where the click was mended before.
        ``length_ms``: how long after the click its thump is heard.

    Raises
    ------
    ParameterError
        If the place is too long for a click, or nothing that follows it is a thump.
    """
    rate = version.rate
    if parameters["click"] == "none":
        return _without_swing(version, place, parameters)
    if place.stop - place.start > LONGEST_EVENT_SECONDS * rate:
        raise ParameterError("This is too long for a click.", "Choose just the click, up to 20 ms.")
    length = max(1, round(float(parameters["length_ms"]) * rate / 1000))
    reach = round(REACH_SECONDS * rate)
    first = max(0, place.start - round(CONTEXT_SECONDS * rate))
    last = min(version.frames, place.stop + length + reach)
    made = version.read_exact(first, last)
    begin, end, latest, is_found = place.stop, place.stop, 0, False
    for channel in place.channels:
        wave = made[:, channel]
        start = stop = place.stop - first
        if parameters["click"] == "rebuild":
            seen = within_reach(wave, place.start - first, stop, rate)
            start, stop = seen.start, seen.stop
            wave[start:stop] = filled(wave, seen)
        swing = thump(wave, start, rate, length)
        if swing is not None:
            is_found = True
            wave[start : start + len(swing)] -= swing
            if start < stop:
                # The sound on both sides is on one line now, as it was before the click.
                wave[start:stop] = rebuilt(wave, start, stop)
        begin, end, latest = min(begin, first + start), max(end, first + stop), max(latest, first + start)
    if not is_found:
        raise ParameterError(
            "No thump was found after this click.", "Nothing below 150 Hz begins with the click and dies away after it."
        )

    finish = min(version.frames, latest + length)
    stretches = tuple(
        Stretch(start, stop, already_made(version, place._replace(start=start, stop=stop), made, first, nature))
        for start, stop, nature in ((begin, end, Nature.REBUILT), (end, finish, Nature.FILTERED))
        if start < stop
    )
    return Reworked(
        stretches,
        place._replace(start=begin, stop=finish),
        parameters,
        _score(made, begin - first, end - first, place, rate) if begin < end else None,
    )


def _without_swing(version: Version, place: Place, parameters: Parameters) -> Reworked:
    """Return a place without what its lowest octaves have beyond what the sound on both sides lets expect."""
    reach = round(SWING_CONTEXT_SECONDS * version.rate)
    first = max(0, place.start - reach)
    made = version.read_exact(first, min(version.frames, place.stop + reach))
    inside = slice(place.start - first, place.stop - first)
    for channel in place.channels:
        swing = low_swing(made[:, channel], inside.start, inside.stop, version.rate)
        if swing is None:
            raise ParameterError("There is too little sound beside this thump to tell what lies under it.")
        made[inside, channel] -= swing

    stretch = Stretch(place.start, place.stop, already_made(version, place, made, first, Nature.FILTERED))
    return Reworked((stretch,), place, parameters)


def _score(sound: Wave, begin: int, end: int, place: Place, rate: int) -> float:
    """Return the seam score of the click's place in the sound without its thump."""
    rebuilt_there = np.zeros(sound.shape, np.bool_)
    rebuilt_there[begin:end, list(place.channels)] = True
    return seam_scores(sound, rebuilt_there, np.array([begin]), np.array([end]), rate)[0]


METHOD = Method(
    name="dethump",
    title="Dethump",
    summary="Takes out a slow swing: that which a big click set going, with the click, or a knock by itself.",
    parameters=(
        Parameter(
            "click",
            "choice",
            "rebuild",
            "whether the click itself is rebuilt too, was mended before, or there is none and the place is the thump",
            choices=("rebuild", "leave", "none"),
        ),
        Parameter("length_ms", "number", 500.0, "how long its thump is heard", unit="ms", low=50.0, high=1000.0),
    ),
    does=Reworking(rework, nature=Nature.FILTERED),
)
