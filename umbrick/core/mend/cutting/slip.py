"""Putting a slip right: the sample that is too many goes, or the one that is missing is put in."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.errors import ParameterError
from umbrick.core.measure.jumps import OwnJumps
from umbrick.core.mend.making import pieces_of
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.model.slip import missing_sample, slip_near
from umbrick.core.timeline.patch import Nature, Patch
from umbrick.core.timeline.runs import NO_ORIGIN, Piece
from umbrick.core.timeline.version import Version

_CONTEXT_SECONDS = 0.06


def rework(version: Version, place: Place, parameters: Parameters, _: Callable[[], bool]) -> Reworked:
    """Return a place with the sample taken out of all channels, or one put in before it.

    Raises
    ------
    ParameterError
        If neither makes what follows go on as foretold, or the place is too near to an end to tell.
    """
    reach = round(_CONTEXT_SECONDS * version.rate)
    first = max(0, place.start - reach)
    sound = version.read_exact(first, min(version.frames, place.stop + reach))
    at, samples = place.start, parameters["samples"]
    if samples == "auto":
        slip = slip_near(sound[:, place.channels[0]], place.start - first, place.stop - first, version.rate)
        if slip is None or slip.gain_db <= 0:
            raise ParameterError("No slip was found here.", "Say which it is: too_many or too_few.")
        at, samples = first + slip.at, "too_many" if slip.samples > 0 else "too_few"
    exact = dict(parameters) | {"samples": samples}
    if samples == "too_many":
        whole = np.delete(sound, at - first, axis=0)
        stretch = Stretch(at, at + 1, ())
    else:
        missing = [missing_sample(wave, at - first, version.rate) for wave in sound.T]
        if at == 0 or all(value is None for value in missing):
            raise ParameterError("There is too little sound here to tell the missing sample.")
        values = np.array([[value or 0.0 for value in missing]])
        whole = np.insert(sound, at - first, values, axis=0)
        added = Piece(Patch(values, version.rate, Nature.REBUILT), 0, 1, NO_ORIGIN)
        stretch = Stretch(at - 1, at, (*pieces_of(version, at - 1, at), added))
    reading = OwnJumps(version, at, at + 1).read(whole[: at - first], whole[at - first :])
    return Reworked((stretch,), place._replace(start=at, stop=at + 1), exact, reading.score)


METHOD = Method(
    name="slip",
    title="Slip",
    summary="Takes out the sample that is too many, or puts in the one that is missing.",
    parameters=(
        Parameter(
            "samples",
            "choice",
            "auto",
            "whether the place's first sample is too many, or one before it is missing; auto finds out, and where",
            ("auto", "too_many", "too_few"),
        ),
    ),
    does=Reworking(rework, time_shift="some"),
)
