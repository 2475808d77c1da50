"""A level curve: gain over time by nodes in dB, with straight lines between them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import ParameterError

LOWEST_DB, HIGHEST_DB = -60.0, 40.0
_NODE = re.compile(r"^(\d{1,12}):([+-]?\d+(?:\.\d+)?)$")


class Node(NamedTuple):
    """A point of a level curve: a frame, counted from where the curve begins, and the gain there."""

    frame: int
    gain_db: float


@dataclass(frozen=True)
class LevelCurve:
    """Nodes in order of time, no two on one frame. Before the first and after the last, their gain goes on."""

    nodes: tuple[Node, ...]

    @classmethod
    def of(cls, nodes: Iterable[tuple[int, float]]) -> LevelCurve:
        """Return the curve of nodes in any order; of several on one frame the last counts."""
        by_frame = {frame: min(max(gain_db, LOWEST_DB), HIGHEST_DB) for frame, gain_db in nodes}
        return cls(tuple(Node(frame, by_frame[frame]) for frame in sorted(by_frame)))

    @classmethod
    def step(cls, frames: int, gain_db: float, ramp: int) -> LevelCurve:
        """Return the curve that goes to a gain within ``ramp`` frames, and back before ``frames``: never at once."""
        ramp = max(1, min(ramp, frames // 2))
        return cls.of([(0, 0.0), (ramp, gain_db), (frames - ramp, gain_db), (frames, 0.0)])

    @classmethod
    def parsed(cls, text: str) -> LevelCurve:
        """Return the curve written as ``0:0 480:-3 9600:-3 10080:0``: frames and dB.

        Raises
        ------
        ParameterError
            If it is not written so, or a gain is out of range.
        """
        matches = [_NODE.match(word) for word in text.split()]
        if not all(matches):
            raise ParameterError(f"“{text}” is not a level curve.", "Write nodes as FRAME:DB, such as 0:0 480:-3.")
        nodes = [(int(match[1]), float(match[2])) for match in matches if match]
        if any(not LOWEST_DB <= gain_db <= HIGHEST_DB for _, gain_db in nodes):
            raise ParameterError(f"A level curve goes from {LOWEST_DB:g} to {HIGHEST_DB:g} dB.")
        return cls.of(nodes)

    @property
    def text(self) -> str:
        """The curve as :meth:`parsed` reads it."""
        return " ".join(f"{frame}:{gain_db:g}" for frame, gain_db in self.nodes)

    def gain_db_at(self, frames: npt.ArrayLike) -> npt.NDArray[np.float64]:
        """Return the gain at frames; 0 dB everywhere if there is no node."""
        if not self.nodes:
            return np.zeros(np.shape(frames))
        at, gains_db = zip(*self.nodes, strict=True)
        return np.asarray(np.interp(np.asarray(frames, np.float64), at, gains_db))

    def factors(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the factors for the samples of a span, shape ``(stop - start, 1)``."""
        return np.asarray(10 ** (self.gain_db_at(np.arange(start, stop)) / 20))[:, np.newaxis]
