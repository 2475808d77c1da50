"""An area: a selection in time and frequency, made of shapes that are added, taken away or intersected."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import Enum

import numpy as np
import numpy.typing as npt

from umbrick.core.areas.shapes import Box, Cells, Mosaic, Outline, Point, Shape, Stroke
from umbrick.core.errors import ParameterError

Wave = npt.NDArray[np.float64]

MOST_HARMONICS = 64
_HIGHEST_HZ = 1e6
_MOST_WORDS = 200_000
_NUMBER = r"-?\d{1,12}(?:\.\d{1,12})?"
_PAIR = re.compile(rf"^({_NUMBER}):({_NUMBER})$")
_SINGLE = re.compile(rf"^{_NUMBER}$")
_RANGE = re.compile(r"^(\d{1,6})-(\d{1,6})$")


class Join(Enum):
    """What a shape does to the area before it."""

    ADD = "+"
    TAKE = "-"
    MEET = "&"


@dataclass(frozen=True)
class Area:
    """Shapes in the order they were made; frames are counted from where the area's place begins.

    With ``harmonics`` above 1 it also lies at so many multiples of its frequencies, itself counted.
    """

    parts: tuple[tuple[Join, Shape], ...]
    harmonics: int = 1

    @classmethod
    def of(cls, *shapes: Shape) -> Area:
        """Return the area of shapes added up."""
        return cls(tuple((Join.ADD, shape) for shape in shapes))

    @classmethod
    def parsed(cls, text: str, harmonics: int = 1) -> Area:
        """Return the area written as shapes with a semicolon between them.

        A shape is three points or more that a line goes round, as ``0:900 4800:1200 0:1200``, each a frame and a
        frequency in Hz; or ``box`` and two corners; or ``brush``, the brush's size in frames and Hz, and where it went;
        or ``cells``, a frame, the size of a cell and for each row its ranges of bins. A ``-`` before a shape takes it
        away from those before, a ``&`` leaves only what both have.

        Raises
        ------
        ParameterError
            If it is not written so.
        """
        parts = []
        for written in text.split(";"):
            words = written.split()
            if not words:
                continue
            join = Join.ADD
            if words[0] in {"+", "-", "&"}:
                join = Join(words.pop(0))
            parts.append((join, _shape(words)))
        if not parts:
            raise ParameterError("The area is empty.")
        return cls(tuple(parts), harmonics)

    @property
    def text(self) -> str:
        """The shapes as :meth:`parsed` reads them."""
        return "; ".join(("" if join is Join.ADD else f"{join.value} ") + shape.text for join, shape in self.parts)

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """First and last frame, lowest and highest frequency in Hz, without harmonics."""
        added = [shape.extent for join, shape in self.parts if join is Join.ADD]
        if not added:
            return 0.0, 0.0, 0.0, 0.0
        starts, stops, lows, highs = zip(*added, strict=True)
        return min(starts), max(stops), min(lows), max(highs)

    def joined(self, join: Join, shape: Shape) -> Area:
        """Return the area with one more shape."""
        return replace(self, parts=(*self.parts, (join, shape)))

    def moved(self, frames: float, hz: float = 0.0) -> Area:
        """Return the area elsewhere."""
        return replace(self, parts=tuple((join, shape.moved(frames, hz)) for join, shape in self.parts))

    def stretched(self, times: float, octaves: float = 1.0) -> Area:
        """Return the area with its time, from 0 on, and its frequency multiplied."""
        return replace(self, parts=tuple((join, shape.stretched(times, octaves)) for join, shape in self.parts))

    def covered(self, cells: Cells) -> Wave:
        """Return which part of each cell of a grid it covers, from 0 to 1, shape ``(rows, bins)``."""
        covered = self._covered(cells)
        top_hz = cells.hz * cells.bins
        for number in range(2, self.harmonics + 1):
            if number * self.extent[2] > top_hz:
                break
            covered = np.maximum(covered, self.stretched(1.0, number)._covered(cells))
        return covered

    def _covered(self, cells: Cells) -> Wave:
        covered = np.zeros((cells.rows, cells.bins))
        for join, shape in self.parts:
            own = shape.covered(cells)
            if join is Join.ADD:
                covered = np.maximum(covered, own)
            elif join is Join.TAKE:
                covered = np.minimum(covered, 1 - own)
            else:
                covered = np.minimum(covered, own)
        return covered


def band_over(frames: int, low_hz: float, high_hz: float) -> Area:
    """Return a band over all of a place of so many frames."""
    return Area.of(Box(0, frames, low_hz, high_hz))


def _shape(words: list[str]) -> Shape:
    if len(words) > _MOST_WORDS:
        raise ParameterError("An area of so many points is not taken.")
    kind = words[0]
    if kind == "box":
        corners = _points(words[1:])
        if len(corners) != 2:
            raise _not_an_area(" ".join(words))
        (start, stop), (low, high) = (sorted(pair) for pair in zip(*corners, strict=True))
        return Box(start, stop, low, high)
    if kind == "brush":
        size, *points = _points(words[1:])
        if not points or min(size) <= 0:
            raise _not_an_area("brush")
        return Stroke(size.frame, size.hz, tuple(points))
    if kind == "cells":
        return _mosaic(words[1:])
    points = _points(words)
    if len(points) < 3:
        raise _not_an_area(" ".join(words))
    return Outline(tuple(points))


def _points(words: Iterable[str]) -> list[Point]:
    points = []
    for word in words:
        match = _PAIR.match(word)
        if match is None or not 0 <= float(match[2]) <= _HIGHEST_HZ:
            raise _not_an_area(word)
        points.append(Point(float(match[1]), float(match[2])))
    if not points:
        raise _not_an_area("")
    return points


def _mosaic(words: list[str]) -> Mosaic:
    if len(words) < 3 or not _SINGLE.match(words[0]):
        raise _not_an_area("cells")
    (hop, hz), *_ = _points(words[1:2])
    if hop <= 0 or hz <= 0:
        raise _not_an_area(words[1])
    rows = []
    for word in words[2:]:
        ranges = [] if word == "." else [_RANGE.match(part) for part in word.split(",")]
        if not all(ranges):
            raise _not_an_area(word)
        rows.append(tuple((int(found[1]), int(found[2])) for found in ranges if found))
    return Mosaic(float(words[0]), hop, hz, tuple(rows))


def _not_an_area(word: str) -> ParameterError:
    shown = word if len(word) <= 40 else word[:40] + "…"
    return ParameterError(
        f"“{shown}” is no area.", "Write the points of its outline as FRAME:HZ, such as 0:900 4800:900 4800:1200."
    )
