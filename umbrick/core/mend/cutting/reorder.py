"""Putting two pieces that changed places back in order."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np

from umbrick.core.errors import ParameterError
from umbrick.core.measure.jumps import OwnJumps
from umbrick.core.mend.making import already_made, pieces_of
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.runs import Piece
from umbrick.core.timeline.version import Version

_CONTEXT_SECONDS = 0.05
_HALF = "half"


def rework(version: Version, place: Place, parameters: Parameters, _: Callable[[], bool]) -> Reworked:
    """Return a place with its second piece before its first.

    Raises
    ------
    ParameterError
        If the first piece is as long as the place.
    """
    first = parameters["first_ms"]
    frames = (place.stop - place.start) // 2 if first == _HALF else round(float(first) * version.rate / 1000)
    middle = place.start + frames
    if not place.start < middle < place.stop:
        raise ParameterError("The first piece must end within the place.", "Select both pieces, or say a shorter one.")
    if len(place.channels) == version.channels:
        pieces: tuple[Piece, ...] = (*pieces_of(version, middle, place.stop), *pieces_of(version, place.start, middle))
    else:
        # Frames of the recording have all channels: on some alone the pieces have to be copied.
        turned = np.roll(version.read_exact(place.start, place.stop), -frames, axis=0)
        pieces = already_made(version, place, turned, place.start, Nature.GRAFTED)
    beside = version.rate // 10
    sides = [
        version.read_exact(start, stop)
        for start, stop in (
            (max(0, place.start - beside), place.start),
            (middle, place.stop),
            (place.start, middle),
            (place.stop, min(version.frames, place.stop + beside)),
        )
    ]
    own = OwnJumps(version, place.start, place.stop)
    scores = [own.read(left, right).score for left, right in pairwise(sides) if len(left) and len(right)]
    exact = dict(parameters) | {"first_ms": 1000.0 * frames / version.rate}
    return Reworked((Stretch(place.start, place.stop, pieces),), place, exact, min(scores))


METHOD = Method(
    name="reorder",
    title="Reorder",
    summary="Puts two pieces of sound that changed places back in order.",
    parameters=(
        Parameter(
            "first_ms",
            "number",
            _HALF,
            "how long the piece is that comes first now; half is half of the place",
            (_HALF,),
            "ms",
            0.0,
            10000.0,
        ),
    ),
    does=Reworking(rework),
)
