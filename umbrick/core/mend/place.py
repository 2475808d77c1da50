"""The places a mend is asked for at: findings, or spans a person typed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.finding import Finding

Masks = npt.NDArray[np.bool_]
"""Which samples are meant: shape ``(frames, channels)``."""


class Place(NamedTuple):
    """A half-open span of some channels of a version, with the findings it stands for."""

    start: int
    stop: int
    channels: tuple[int, ...]
    finding_ids: tuple[str, ...] = ()

    @classmethod
    def of(cls, finding: Finding) -> Place:
        """Return the place of a finding."""
        return cls(finding.start, finding.stop, finding.channels, (finding.id,))


def mask_of(places: Iterable[Place], start: int, stop: int, channels: int) -> Masks:
    """Return which samples of a span the places cover: shape ``(stop - start, channels)``."""
    mask = np.zeros((stop - start, channels), np.bool_)
    for place in places:
        first, last = max(place.start, start) - start, min(place.stop, stop) - start
        if first < last:
            mask[first:last, list(place.channels)] = True
    return mask


def stretches(places: list[Place], gap: int, longest: int) -> Iterator[list[Place]]:
    """Yield the places, in order of time, in groups that one computation can serve.

    A group's neighbours are at most ``gap`` frames apart, and it is no longer than ``longest`` unless a single place
    is; places longer than that are cut.
    """
    group: list[Place] = []
    for place in sorted(_cut(places, longest)):
        if group and (place.start - max(p.stop for p in group[-8:]) > gap or place.stop - group[0].start > longest):
            yield group
            group = []
        group.append(place)
    if group:
        yield group


def _cut(places: list[Place], longest: int) -> Iterator[Place]:
    for place in places:
        for start in range(place.start, place.stop, longest):
            yield place._replace(start=start, stop=min(start + longest, place.stop))
