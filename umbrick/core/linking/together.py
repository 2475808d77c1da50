"""Several recordings put on the clock of the first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from umbrick.core.linking.alignment import NotOneEventError, align
from umbrick.core.linking.clock import PPM, Clock
from umbrick.core.sound.source import Source


class Placed(NamedTuple):
    """How a recording lies, or why that is not known."""

    clock: Clock | None
    why: str = ""


def align_all(
    recordings: Sequence[tuple[str, Source]],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> list[Placed]:
    """Return how each of some named recordings lies against the first.

    One that has nothing in common with the first is tried against those placed already: the microphone at the far end
    of a room may hear the one in the middle, and not the one by the door.
    """
    placed = [Placed(Clock(recordings[0][1].rate))]
    rest = len(recordings) - 1
    for number, (name, source) in enumerate(recordings[1:]):

        def told(share: float, number: int = number) -> None:
            progress((number + share) / rest)

        placed.append(_placed(recordings, placed, name, source, told, is_cancelled))
    return placed


def _placed(
    recordings: Sequence[tuple[str, Source]],
    known: Sequence[Placed],
    name: str,
    source: Source,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Placed:
    why = ""
    for (beside, other), place in zip(recordings, known, strict=False):
        if place.clock is None:
            continue
        try:
            return Placed(_through(place.clock, align(other, source, (beside, name), progress, is_cancelled)))
        except NotOneEventError as error:
            why = why or str(error)
    return Placed(None, why)


def _through(between: Clock, own: Clock) -> Clock:
    """Return a clock against the first recording, given against one whose own is known."""
    faster = (1 + between.drift_ppm * PPM) * (1 + own.drift_ppm * PPM)
    return Clock(
        own.rate,
        own.frame_at(between.frame_at(0.0) / between.rate),
        (faster - 1) / PPM,
        between.confidence * own.confidence,
    )
