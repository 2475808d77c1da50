"""Lanes side by side as one recording of many channels, so that what is made of it joins well in every lane."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import ParameterError
from umbrick.core.mend.applying import Mended
from umbrick.core.sound.source import Samples, Source, check_span
from umbrick.core.timeline.change import Change
from umbrick.core.timeline.patch import Nature, Patch
from umbrick.core.timeline.runs import NO_ORIGIN, Piece, Runs
from umbrick.core.timeline.version import Version


class Beside(NamedTuple):
    """A lane's version beside that of another one, whose frame ``f`` is its own ``f + shift``."""

    version: Version
    shift: int


@dataclass(frozen=True, eq=False)
class Stack:
    """Lanes of one rate as one source: what all of them have, with the channels of each after those of the one before.

    The shifts are against the first lane, whose own is 0; ``start`` is the first lane's frame that the stack begins
    with.
    """

    lanes: tuple[Beside, ...]

    def __post_init__(self) -> None:
        if self.frames <= 0:
            raise ParameterError("These recordings have no moment in common.", "Check their offsets.")

    @property
    def rate(self) -> int:
        """Frames a second."""
        return self.lanes[0].version.rate

    @property
    def channels(self) -> int:
        """Channels of all lanes."""
        return sum(lane.version.channels for lane in self.lanes)

    @property
    def start(self) -> int:
        """The first lane's frame where all lanes have begun."""
        return max([0, *(-lane.shift for lane in self.lanes)])

    @property
    def frames(self) -> int:
        """Frames that all lanes have."""
        return min(lane.version.frames - lane.shift for lane in self.lanes) - self.start

    @property
    def available(self) -> int:
        """Frames that can be read without waiting."""
        return max(0, min(lane.version.available - lane.shift for lane in self.lanes) - self.start)

    @cached_property
    def key(self) -> str:
        """A name for the content."""
        told = "|".join(f"{lane.version.key}:{lane.shift}" for lane in self.lanes)
        return hashlib.blake2b(told.encode(), digest_size=16).hexdigest()

    def channels_of(self, lane: int) -> range:
        """Return which of the channels are a lane's."""
        first = sum(before.version.channels for before in self.lanes[:lane])
        return range(first, first + self.lanes[lane].version.channels)

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames of all lanes."""
        check_span(start, stop, self.frames)
        return np.concatenate([lane.version.read(*self._span(lane, start, stop)) for lane in self.lanes], axis=1)

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames of all lanes as float64."""
        check_span(start, stop, self.frames)
        return np.concatenate([lane.version.read_exact(*self._span(lane, start, stop)) for lane in self.lanes], axis=1)

    def unstacked(self, mended: Mended) -> list[Mended]:
        """Return what was made of the stack's first version as what is to be done to each lane."""
        return [self._of_lane(number, mended) for number in range(len(self.lanes))]

    def _span(self, lane: Beside, start: int, stop: int) -> tuple[int, int]:
        offset = self.start + lane.shift
        return start + offset, stop + offset

    def _of_lane(self, number: int, mended: Mended) -> Mended:
        lane, channels = self.lanes[number], self.channels_of(number)
        version, offset = lane.version, self.start + lane.shift
        patches: dict[int, Patch] = {}

        def own_patch(source: Source) -> Patch:
            if id(source) not in patches:
                samples = source.read_exact(0, source.frames)[:, channels.start : channels.stop]
                patches[id(source)] = Patch(samples, version.rate, getattr(source, "nature", Nature.REBUILT))
            return patches[id(source)]

        def own_pieces(run: Runs) -> list[Piece]:
            made: list[Piece] = []
            for piece in run.pieces():
                if piece.source is self:
                    at = piece.start + offset
                    made += [one for one, _ in version.pieces(at, at + piece.length)]
                elif piece.origin == NO_ORIGIN:
                    made.append(Piece(own_patch(piece.source), piece.start, piece.length, NO_ORIGIN))
                else:
                    at = piece.origin + offset
                    made += [
                        Piece(own_patch(piece.source), piece.start + place - at, one.length, one.origin)
                        for one, place in version.pieces(at, at + piece.length)
                    ]
            return made

        change = mended.change
        runs = Runs.of([own_pieces(change.inserted.run(row)) for row in range(len(change))])
        own = Change.of(version, change.starts + offset, change.stops + offset, runs)
        every = tuple(range(version.channels))
        mends = tuple(
            replace(mend, start=mend.start + offset, stop=mend.stop + offset, channels=every, finding_ids=())
            for mend in mended.mends
        )
        return Mended(own.apply(version), own, mends, mended.parts, mended.peak)


def stacked(first: Version, others: Sequence[Beside]) -> Stack:
    """Return a lane with others beside it.

    Raises
    ------
    ParameterError
        If they have no moment in common, or another rate.
    """
    if any(lane.version.rate != first.rate for lane in others):
        raise ParameterError("These recordings have different rates.", "Save copies at one rate and link those.")
    return Stack((Beside(first, 0), *others))
