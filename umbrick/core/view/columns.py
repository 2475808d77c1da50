"""The extents of a version column by column, for drawing a span at a width."""

from __future__ import annotations

import itertools
import math
from collections import OrderedDict
from contextlib import suppress

import numpy as np
import numpy.typing as npt

from umbrick.core.course.laid import rendered_source, underneath
from umbrick.core.course.overview import OVERVIEW_BUCKET
from umbrick.core.course.rendered import TILE, Rendered
from umbrick.core.sound.pyramid import BUCKET, Extent, Pyramid, build
from umbrick.core.sound.source import Source
from umbrick.core.timeline.difference import changed_spans
from umbrick.core.timeline.version import Version

_RAW_FRAMES_PER_COLUMN = BUCKET
_LONGEST_BUCKET = 4 * BUCKET
_PATCHES_HELD = 256
_HELD = 6
"""Results kept: of the strips at their present widths."""

_EDGES_HELD = 1 << 16
"""Ends of pieces remembered: more than the mends of a badly damaged hour have."""

_LINE_FRAMES_PER_COLUMN = 1.0
"""With fewer frames to a column, the straight line between samples is measured too, so that it has no gaps."""


class Columns:
    """Measures any span of any version of one recording, from the pyramid of its file.

    Rebuilt pieces are read themselves. What lies between a piece's end and the pyramid's next bucket is read once
    and remembered, so a mend changes exactly its own part of the picture.

    Parameters
    ----------
    pyramids : dict of str to Pyramid
        Pyramids by the key of their source; they may still be growing.
    """

    def __init__(self, pyramids: dict[str, Pyramid]) -> None:
        self._pyramids = pyramids
        self._patches: dict[str, Pyramid] = {}
        self._edges: OrderedDict[tuple[str, int, int], Extent] = OrderedDict()
        self._held: OrderedDict[tuple[int, int, int], tuple[Version, Extent]] = OrderedDict()

    def measure(self, version: Version, start: int, stop: int, count: int) -> Extent:
        """Return the extents of ``count`` columns that share the span ``start`` to ``stop`` evenly.

        The span may reach beyond the version; columns outside it, or not measured yet, hold nothing (see
        :class:`Extent`). Where the same columns of a version before are at hand, just those that changed are measured.
        The result must not be changed.
        """
        frames_per_column = (stop - start) / count
        if max(0, start) >= min(stop, version.frames):
            return Extent.nothing(count, version.channels)
        if frames_per_column < _LINE_FRAMES_PER_COLUMN:
            return self._line(version, start, stop, count)
        is_settled = rendered_source(version) is None
        is_settled = is_settled and all(pyramid.is_complete for pyramid in self._pyramids.values())
        if frames_per_column < _RAW_FRAMES_PER_COLUMN or not is_settled:
            return self._measured(version, start, stop, count, [(0, count)])
        key = start, stop, count
        extent = self._remeasured(version, key) or self._measured(version, start, stop, count, [(0, count)])
        self._held[key] = version, extent
        self._held.move_to_end(key)
        while len(self._held) > _HELD:
            self._held.popitem(last=False)
        return extent

    def _remeasured(self, version: Version, key: tuple[int, int, int]) -> Extent | None:
        """Return columns held of another version with those that differ measured anew; None if it is not worth it."""
        held = self._held.get(key)
        spans = changed_spans(held[0], version) if held else None
        if held is None or spans is None:
            return None
        start, stop, count = key
        # A bucket of the pyramid may begin in the column before.
        touched = (spans - start) * count / (stop - start) + (-1, 1)
        edges = np.clip(np.stack([np.floor(touched[:, 0]), np.ceil(touched[:, 1])], axis=1), 0, count).astype(np.int64)
        changed = np.zeros(count + 1, np.int64)
        np.add.at(changed, edges[:, 0], 1)
        np.add.at(changed, edges[:, 1], -1)
        is_changed = np.cumsum(changed[:-1]) > 0
        if 2 * np.count_nonzero(is_changed) > count:
            return None
        bounds = np.flatnonzero(np.diff(is_changed, prepend=False, append=False)).tolist()
        fresh = self._measured(version, start, stop, count, list(zip(bounds[::2], bounds[1::2], strict=True)))
        rows = is_changed[:, np.newaxis]
        return Extent(*(np.where(rows, new, old) for new, old in zip(fresh, held[1], strict=True)))

    def _measured(self, version: Version, start: int, stop: int, count: int, columns: list[tuple[int, int]]) -> Extent:
        """Return the extents of some runs of columns; what the others hold means nothing."""
        accumulator = _Accumulator(start, stop, count, version.channels)
        frames_per_column = (stop - start) / count
        for first, last in columns:
            begin = max(0, start + math.floor((first - 1) * frames_per_column), start)
            end = min(stop, version.frames, start + math.ceil((last + 1) * frames_per_column))
            if begin < end:
                self._collect(accumulator, version, begin, end, frames_per_column)
        return accumulator.extent()

    def _collect(
        self, accumulator: _Accumulator, version: Version, begin: int, end: int, frames_per_column: float
    ) -> None:
        if (rendered := rendered_source(version)) is not None and frames_per_column >= OVERVIEW_BUCKET:
            self._collect_rendered(accumulator, rendered, underneath(version), begin, end, frames_per_column)
            return
        for piece, at in version.pieces(begin, end):
            if rendered is not None:
                accumulator.add_samples(at, piece.source.read(piece.start, piece.start + piece.length))
                continue
            pyramid = self._pyramids.get(piece.source.key) or self._patch(piece.source)
            if frames_per_column < _RAW_FRAMES_PER_COLUMN:
                length = min(piece.length, piece.source.available - piece.start)
                if length > 0:
                    accumulator.add_samples(at, piece.source.read(piece.start, piece.start + length))
            elif pyramid is None:
                accumulator.add_buckets(
                    at, piece.length, self._edge(piece.source, piece.start, piece.start + piece.length)
                )
            else:
                self._add(accumulator, at - piece.start, pyramid, piece.source, piece.start, piece.start + piece.length,
                          int(frames_per_column))  # fmt: skip

    def _collect_rendered(
        self,
        accumulator: _Accumulator,
        rendered: Rendered,
        beneath: Version,
        begin: int,
        end: int,
        frames_per_column: float,
    ) -> None:
        """Collect what a course makes, as far as it is known, and what is beneath it where it does nothing."""
        first, last = begin // TILE, -(-end // TILE)
        touched = rendered.touched[first:last]
        edges = np.flatnonzero(np.diff(touched, prepend=not touched[0])).tolist() if len(touched) else []
        for low, high in itertools.pairwise([*edges, len(touched)]):
            start, stop = max(begin, (first + low) * TILE), min(end, (first + high) * TILE)
            if touched[low]:
                at, extent = rendered.overview.within(start, stop)
                accumulator.add_buckets(at, OVERVIEW_BUCKET, extent)
            else:
                self._collect(accumulator, beneath, start, stop, frames_per_column)

    def _patch(self, source: Source) -> Pyramid | None:
        """Return the pyramid of a long patch, made when it is first drawn; a short one has none, and is one bucket."""
        if source.frames <= _LONGEST_BUCKET:
            return None
        pyramid = self._patches.get(source.key)
        if pyramid is None:
            pyramid = Pyramid(source.frames, source.channels)
            build(pyramid, source)
            self._patches[source.key] = pyramid
            while len(self._patches) > _PATCHES_HELD:
                self._patches.pop(next(iter(self._patches)), None)
        return pyramid

    @staticmethod
    def _line(version: Version, start: int, stop: int, count: int) -> Extent:
        begin, end = max(0, start - 1), min(version.frames, stop + 2)
        end = min(end, version.available)
        result = Extent.nothing(count, version.channels)
        if end - begin < 1:
            return result
        samples = version.read(begin, end)
        edges = np.linspace(start, stop, count + 1)
        inside = (edges[:-1] >= begin) & (edges[1:] <= max(end - 1, begin + 1))
        at = np.arange(begin, end)
        seen = (at >= start) & (at < stop)
        column = ((at[seen] - start) * count / (stop - start)).astype(np.int64)
        for channel in range(version.channels):
            line = np.interp(edges, at, samples[:, channel]).astype(np.float32)
            low, high = np.minimum(line[:-1], line[1:]), np.maximum(line[:-1], line[1:])
            result.low[inside, channel], result.high[inside, channel] = low[inside], high[inside]
            np.minimum.at(result.low[:, channel], column, samples[seen, channel])
            np.maximum.at(result.high[:, channel], column, samples[seen, channel])
        return result

    def _add(
        self,
        accumulator: _Accumulator,
        shift: int,
        pyramid: Pyramid,
        source: Source,
        start: int,
        stop: int,
        longest: int,
    ) -> None:
        """Add source frames ``start`` to ``stop``, which stand ``shift`` later in the version."""
        bucket, _ = pyramid.buckets(0, 0, longest)
        while bucket > BUCKET and stop - start < 2 * bucket:
            bucket, _ = pyramid.buckets(0, 0, bucket - 1)
        first = -(-start // bucket) * bucket
        last = stop if stop == source.frames else stop // bucket * bucket
        if first >= last:
            self._add_edge(accumulator, shift, pyramid, source, start, stop)
            return
        accumulator.add_buckets(first + shift, bucket, pyramid.buckets(first, last, bucket)[1])
        for edge_start, edge_stop in ((start, first), (last, stop)):
            if edge_stop <= edge_start:
                continue
            if bucket > BUCKET:
                self._add(accumulator, shift, pyramid, source, edge_start, edge_stop, bucket - 1)
            else:
                self._add_edge(accumulator, shift, pyramid, source, edge_start, edge_stop)

    def _add_edge(
        self, accumulator: _Accumulator, shift: int, pyramid: Pyramid, source: Source, start: int, stop: int
    ) -> None:
        if stop <= pyramid.measured_frames:
            accumulator.add_buckets(start + shift, stop - start, self._edge(source, start, stop))

    def _edge(self, source: Source, start: int, stop: int) -> Extent:
        key = (source.key, start, stop)
        held = self._edges.get(key)
        if held is None:
            held = self._edges[key] = Extent.of(source.read(start, stop))
            while len(self._edges) > _EDGES_HELD:
                # Whoever else measures meanwhile may have been quicker.
                with suppress(KeyError):
                    self._edges.popitem(last=False)
        return held


class _Accumulator:
    """Collects extents and reduces them to columns in one go: thousands of short pieces cost little each."""

    def __init__(self, start: int, stop: int, count: int, channels: int) -> None:
        self._start = start
        self._frames_per_column = (stop - start) / count
        self._count = count
        self._channels = channels
        self._runs: list[tuple[int, int, int]] = []
        self._extents: list[Extent] = []

    def add_samples(self, at: int, samples: npt.NDArray[np.float32]) -> None:
        self._runs.append((at, 1, len(samples)))
        self._extents.append(Extent(samples, samples, samples * samples))

    def add_buckets(self, at: int, bucket: int, extent: Extent) -> None:
        self._runs.append((at, bucket, len(extent.low)))
        self._extents.append(extent)

    def extent(self) -> Extent:
        result = Extent.nothing(self._count, self._channels)
        if not self._runs:
            return result
        ats, buckets, counts = np.array(self._runs, np.int64).T
        first_of_run = np.repeat(np.cumsum(counts) - counts, counts)
        lengths = np.repeat(buckets, counts)
        positions = np.repeat(ats, counts) + (np.arange(len(lengths)) - first_of_run) * lengths
        low, high, mean_square = (np.concatenate(arrays) for arrays in zip(*self._extents, strict=True))
        column = ((positions - self._start) / self._frames_per_column).astype(np.int64)
        np.clip(column, 0, self._count - 1, out=column)
        if np.any(np.diff(column) < 0):
            order = np.argsort(column, kind="stable")
            column, lengths, low, high, mean_square = (a[order] for a in (column, lengths, low, high, mean_square))
        firsts = np.flatnonzero(np.diff(column, prepend=-1))
        where = column[firsts]
        weights = np.where(low[:, 0] <= high[:, 0], lengths, 0).astype(np.float32)[:, np.newaxis]
        energy = np.add.reduceat(mean_square * weights, firsts)
        result.low[where] = np.minimum.reduceat(low, firsts)
        result.high[where] = np.maximum.reduceat(high, firsts)
        result.mean_square[where] = energy / np.maximum(np.add.reduceat(weights, firsts), 1)
        return result
