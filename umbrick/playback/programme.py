"""What is played: a recording before, after, or what was taken out of it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import NamedTuple

import numpy as np

from umbrick.core.course.laid import underneath
from umbrick.core.timeline.positions import map_position
from umbrick.core.timeline.version import Version
from umbrick.core.units import db_to_amplitude
from umbrick.playback.output import Block


class Hearing(Enum):
    """What is listened to."""

    BEFORE = "before"
    AFTER = "after"
    RESIDUE = "residue"


class Beside(NamedTuple):
    """A linked recording that is heard beside another one, whose frame ``f`` is its own ``f + shift``."""

    version: Version
    shift: int
    gain: float


@dataclass(frozen=True, slots=True)
class Programme:
    """What is played. Positions, the loop and ``stop`` are frames of ``after``.

    ``gain_db`` lowers what goes to the output, the same for all; ``trims_db`` further changes one of the three, to
    match their loudness. ``own_gain`` is how much of the recording itself is heard among those ``beside`` it.
    """

    before: Version
    after: Version
    hearing: Hearing = Hearing.AFTER
    loop: tuple[int, int] | None = None
    gain_db: float = 0.0
    trims_db: tuple[tuple[Hearing, float], ...] = ()
    own_gain: float = 1.0
    beside: tuple[Beside, ...] = ()

    def read(self, start: int, frames: int) -> Block:
        """Return ``frames`` frames from ``start`` on, silence after the end."""
        sound = np.zeros((frames, self.after.channels), np.float32)
        if self.hearing is not Hearing.BEFORE:
            self._add(sound, self.after, start, 1.0 if self.hearing is Hearing.AFTER else -1.0)
        if self.hearing is not Hearing.AFTER:
            self._add(sound, self.before, map_position(self.after, self.before, min(start, self.after.frames)), 1.0)
        return self._mixed(sound, start)

    def _mixed(self, sound: Block, start: int) -> Block:
        """Return the sound among what is heard beside it; of a residue there is nothing beside."""
        if self.own_gain == 1.0 and not self.beside:
            return sound
        mixed = np.float32(self.own_gain) * sound
        for lane in self.beside if self.hearing is not Hearing.RESIDUE else ():
            first = start + lane.shift
            begin, end = max(0, first), min(first + len(sound), lane.version.frames)
            if begin < end:
                own = lane.version.read(begin, end)
                if lane.version.channels != sound.shape[1]:
                    own = np.repeat(own.mean(axis=1, keepdims=True), sound.shape[1], axis=1)
                mixed[begin - first : end - first] += np.float32(lane.gain) * own
        return mixed

    @property
    def form(self) -> tuple[int, int]:
        """Rate and number of channels."""
        return self.after.rate, self.after.channels

    def output_gain(self) -> float:
        """Return the factor between the version's level and the output's."""
        return db_to_amplitude(self.gain_db + dict(self.trims_db).get(self.hearing, 0.0))

    @staticmethod
    def _add(sound: Block, version: Version, start: int, sign: float) -> None:
        stop = min(start + len(sound), version.frames)
        if start < stop:
            sound[: stop - start] += np.float32(sign) * version.read(start, stop)


def moved(position: int, old: Programme, new: Programme) -> int:
    """Return where a position in one programme is in another of the same recording."""
    if underneath(old.after) is underneath(new.after):
        return position
    return map_position(old.after, new.after, min(position, old.after.frames))
