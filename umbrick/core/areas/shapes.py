"""The shapes that an area is made of, and how much of each cell of a grid they cover."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

Wave = npt.NDArray[np.float64]


class Point(NamedTuple):
    """A place in time and frequency; the frame is counted from where the area's place begins."""

    frame: float
    hz: float


class Cells(NamedTuple):
    """A grid over time and frequency: ``rows`` in time, of which the middle of the first is at ``first``, ``hop``
    frames apart, and ``bins`` in frequency, of which the middle of the first is 0 Hz, ``hz`` apart."""

    first: float
    hop: float
    rows: int
    hz: float
    bins: int

    @property
    def middles(self) -> Wave:
        """The frame in the middle of each row."""
        return np.asarray(self.first + self.hop * np.arange(self.rows), np.float64)

    @property
    def edges_hz(self) -> Wave:
        """The frequencies between which each bin lies, one more than there are bins."""
        return np.asarray((np.arange(self.bins + 1) - 0.5) * self.hz, np.float64)

    def of_time(self, start: float, stop: float) -> slice:
        """Return the rows that touch a span."""
        first = int(np.ceil((start - self.first) / self.hop - 0.5))
        last = int(np.floor((stop - self.first) / self.hop + 0.5)) + 1
        return slice(min(max(0, first), self.rows), min(max(0, last), self.rows))


class Shape(Protocol):
    """One shape. Frames are counted from where the area's place begins."""

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """First and last frame, lowest and highest frequency in Hz."""
        ...

    def moved(self, frames: float, hz: float = 0.0) -> Shape:
        """Return the same shape elsewhere."""
        ...

    def stretched(self, times: float, octaves: float = 1.0) -> Shape:
        """Return the shape with its time, from 0 on, and its frequency multiplied."""
        ...

    def covered(self, cells: Cells) -> Wave:
        """Return which part of each cell it covers, from 0 to 1, shape ``(rows, bins)``."""
        ...

    @property
    def text(self) -> str:
        """It in words that :mod:`umbrick.core.areas.area` reads."""
        ...


@dataclass(frozen=True)
class Box:
    """From one frame to another, and from one frequency to another."""

    start: float
    stop: float
    low_hz: float
    high_hz: float

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """See :class:`Shape`."""
        return self.start, self.stop, self.low_hz, self.high_hz

    def moved(self, frames: float, hz: float = 0.0) -> Box:
        """See :class:`Shape`."""
        return Box(self.start + frames, self.stop + frames, max(0.0, self.low_hz + hz), self.high_hz + hz)

    def stretched(self, times: float, octaves: float = 1.0) -> Box:
        """See :class:`Shape`."""
        return Box(self.start * times, self.stop * times, self.low_hz * octaves, self.high_hz * octaves)

    def covered(self, cells: Cells) -> Wave:
        """See :class:`Shape`."""
        half = cells.hop / 2
        middles = cells.middles
        rows = np.clip(np.minimum(self.stop, middles + half) - np.maximum(self.start, middles - half), 0, None)
        return (rows / cells.hop)[:, np.newaxis] * _bins_between(self.low_hz, self.high_hz, cells)

    @property
    def text(self) -> str:
        """See :class:`Shape`."""
        return f"box {_told(self.start)}:{_told(self.low_hz)} {_told(self.stop)}:{_told(self.high_hz)}"


@dataclass(frozen=True)
class Outline:
    """All that a closed line goes round; where it crosses itself, what lies in an odd number of its turns."""

    points: tuple[Point, ...]

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """See :class:`Shape`."""
        return _extent(self.points)

    def moved(self, frames: float, hz: float = 0.0) -> Outline:
        """See :class:`Shape`."""
        return Outline(tuple(Point(p.frame + frames, max(0.0, p.hz + hz)) for p in self.points))

    def stretched(self, times: float, octaves: float = 1.0) -> Outline:
        """See :class:`Shape`."""
        return Outline(tuple(Point(p.frame * times, p.hz * octaves) for p in self.points))

    def covered(self, cells: Cells) -> Wave:
        """See :class:`Shape`."""
        covered = np.zeros((cells.rows, cells.bins))
        start, stop, _, _ = self.extent
        rows = cells.of_time(start, stop)
        at = np.array(self.points)
        after = np.roll(at, -1, axis=0)
        span = (after[:, 0] - at[:, 0])[np.newaxis]
        # Two looks at each row, so that slanting edges are not steps.
        for aside in (-0.25, 0.25):
            times = (cells.middles[rows] + aside * cells.hop)[:, np.newaxis]
            crosses = (np.minimum(at[:, 0], after[:, 0]) <= times) & (times < np.maximum(at[:, 0], after[:, 0]))
            share = (times - at[:, 0]) / np.where(span == 0, 1.0, span)
            hz = np.where(crosses, at[:, 1] + share * (after[:, 1] - at[:, 1]), np.inf)
            hz.sort(axis=1)
            for pair in range(0, hz.shape[1] - 1, 2):
                if not np.isfinite(hz[:, pair]).any():
                    break
                covered[rows] += 0.5 * _bins_between(hz[:, pair : pair + 1], hz[:, pair + 1 : pair + 2], cells)
        return np.minimum(covered, 1.0)

    @property
    def text(self) -> str:
        """See :class:`Shape`."""
        return " ".join(f"{_told(point.frame)}:{_told(point.hz)}" for point in self.points)


@dataclass(frozen=True)
class Stroke:
    """What a brush of so many frames and Hz across went over."""

    frames: float
    hz: float
    points: tuple[Point, ...]

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """See :class:`Shape`."""
        start, stop, low, high = _extent(self.points)
        return start - self.frames / 2, stop + self.frames / 2, max(0.0, low - self.hz / 2), high + self.hz / 2

    def moved(self, frames: float, hz: float = 0.0) -> Stroke:
        """See :class:`Shape`."""
        return replace(self, points=tuple(Point(p.frame + frames, max(0.0, p.hz + hz)) for p in self.points))

    def stretched(self, times: float, octaves: float = 1.0) -> Stroke:
        """See :class:`Shape`."""
        points = tuple(Point(p.frame * times, p.hz * octaves) for p in self.points)
        return Stroke(self.frames * times, self.hz * octaves, points)

    def covered(self, cells: Cells) -> Wave:
        """See :class:`Shape`."""
        covered = np.zeros((cells.rows, cells.bins))
        for frame, hz in self._stamps():
            rows = cells.of_time(frame - self.frames / 2, frame + self.frames / 2)
            aside = (cells.middles[rows] - frame) / max(self.frames / 2, cells.hop / 2)
            half = (self.hz / 2 * np.sqrt(np.clip(1 - aside**2, 0, 1)))[:, np.newaxis]
            covered[rows] = np.maximum(covered[rows], _bins_between(hz - half, hz + half, cells))
        return covered

    def _stamps(self) -> Iterator[tuple[float, float]]:
        """Yield where the brush is put down: often enough that no gaps are seen."""
        yield self.points[0]
        for at, after in zip(self.points, self.points[1:], strict=False):
            steps = np.hypot((after.frame - at.frame) / (self.frames / 2), (after.hz - at.hz) / (self.hz / 2))
            for share in np.linspace(0, 1, int(np.ceil(4 * min(steps, 1e4))) + 1)[1:].tolist():
                yield at.frame + share * (after.frame - at.frame), at.hz + share * (after.hz - at.hz)

    @property
    def text(self) -> str:
        """See :class:`Shape`."""
        points = " ".join(f"{_told(point.frame)}:{_told(point.hz)}" for point in self.points)
        return f"brush {_told(self.frames)}:{_told(self.hz)} {points}"


@dataclass(frozen=True)
class Mosaic:
    """Single cells, as gathering finds them: for each of its rows the ranges of its bins, first and before the last.

    The first row begins at ``start``; each is ``hop`` frames long, and a bin is ``hz`` wide, the first around 0 Hz.
    """

    start: float
    hop: float
    hz: float
    rows: tuple[tuple[tuple[int, int], ...], ...]

    @classmethod
    def of(cls, mask: npt.NDArray[np.bool_], start: float, hop: float, hz: float) -> Mosaic:
        """Return the cells that a mask of shape ``(rows, bins)`` marks."""
        return cls(start, hop, hz, tuple(_ranges(row) for row in mask))

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """See :class:`Shape`."""
        taken = [row for row in self.rows if row]
        low = min((row[0][0] for row in taken), default=0)
        high = max((row[-1][1] for row in taken), default=0)
        return (
            self.start,
            self.start + self.hop * len(self.rows),
            max(0.0, (low - 0.5) * self.hz),
            (high - 0.5) * self.hz,
        )

    def moved(self, frames: float, hz: float = 0.0) -> Mosaic:
        """See :class:`Shape`."""
        bins = round(hz / self.hz)
        rows = tuple(tuple((max(0, low + bins), max(0, high + bins)) for low, high in row) for row in self.rows)
        return replace(self, start=self.start + frames, rows=rows)

    def stretched(self, times: float, octaves: float = 1.0) -> Mosaic:
        """See :class:`Shape`."""
        return replace(self, start=self.start * times, hop=self.hop * times, hz=self.hz * octaves)

    def covered(self, cells: Cells) -> Wave:
        """See :class:`Shape`."""
        covered = np.zeros((cells.rows, cells.bins))
        own = np.floor((cells.middles - self.start) / self.hop).astype(np.int64)
        rows = cells.of_time(*self.extent[:2])
        for row in range(rows.start, rows.stop):
            if 0 <= own[row] < len(self.rows):
                for low, high in self.rows[own[row]]:
                    covered[row] += _bins_between((low - 0.5) * self.hz, (high - 0.5) * self.hz, cells)
        return np.minimum(covered, 1.0)

    @property
    def text(self) -> str:
        """See :class:`Shape`."""
        rows = (",".join(f"{low}-{high}" for low, high in row) or "." for row in self.rows)
        return f"cells {_told(self.start)} {_told(self.hop)}:{_told(self.hz)} {' '.join(rows)}"


def _bins_between(low: float | Wave, high: float | Wave, cells: Cells) -> Wave:
    """Return which part of each bin lies between two frequencies."""
    edges = cells.edges_hz
    with np.errstate(invalid="ignore"):
        inside = np.minimum(high, edges[1:]) - np.maximum(low, edges[:-1])
    return np.asarray(np.clip(np.nan_to_num(inside), 0, cells.hz) / cells.hz)


def _extent(points: Sequence[Point]) -> tuple[float, float, float, float]:
    frames, hz = zip(*points, strict=True)
    return min(frames), max(frames), min(hz), max(hz)


def _ranges(row: npt.NDArray[np.bool_]) -> tuple[tuple[int, int], ...]:
    edges = np.flatnonzero(np.diff(row, prepend=False, append=False)).tolist()
    return tuple(zip(edges[::2], edges[1::2], strict=True))


def _told(number: float) -> str:
    return f"{number:.12g}"
