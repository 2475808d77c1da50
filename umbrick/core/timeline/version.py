"""A version: an immutable sequence of pieces of sources."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import Samples, Source, check_span
from umbrick.core.timeline.runs import NO_ORIGIN, Integers, Piece, Runs, continues

_Frames = TypeVar("_Frames", Samples, npt.NDArray[np.float64])

_MANY = 8
_MOST_AT_ONCE = 2
"""What lies between pieces is read with them if all of it is no more than so many times what is asked for."""


@dataclass(frozen=True, eq=False)
class Version:
    """An immutable recording made of pieces; a change gives a new version that shares everything else.

    Reading costs O(log pieces + span). A version is itself a source. Use :meth:`of` to make the first, and
    :meth:`after` with a change to make the next.
    """

    rate: int
    channels: int
    sources: tuple[Source, ...]
    source_index: Integers
    starts: Integers
    origins: Integers
    bounds: Integers
    """Prefix sums of the pieces' lengths, from 0 to the number of frames: one more than there are pieces."""

    @classmethod
    def of(cls, source: Source) -> Version:
        """Return the version that is just ``source``: the original."""
        count = 1 if source.frames else 0
        zero = np.zeros(count, np.int64)
        return cls(source.rate, source.channels, (source,), zero, zero, zero, np.arange(count + 1) * source.frames)

    @classmethod
    def from_run(cls, rate: int, channels: int, run: Runs) -> Version:
        """Return the version made of the pieces of one run."""
        bounds = np.concatenate([[0], np.cumsum(run.lengths)]).astype(np.int64)
        return cls(rate, channels, run.sources, run.index, run.starts, run.origins, bounds)

    @cached_property
    def key(self) -> str:
        """A name for the content: versions with equal keys have equal frames from equal places."""
        # Sources are counted as they first appear: how the version came about must not show.
        used, first, index = np.unique(self.source_index, return_index=True, return_inverse=True)
        order = np.argsort(first)
        rank = np.empty_like(order)
        rank[order] = np.arange(len(order))
        digest = hashlib.blake2b(digest_size=16)
        for array in (self.per_source(source_digest)[used[order]], rank[index], self.starts, self.origins, self.bounds):
            digest.update(array.astype(np.int64).tobytes())
        return digest.hexdigest()

    def content_key(self, start: int, stop: int) -> str:
        """Return a name for the content of a span: of equal names the frames are equal."""
        told: list[tuple[str, int, int]] = []
        for piece, _ in self.pieces(start, stop):
            key, first = piece.source.key, piece.start
            if told and told[-1][0] == key and told[-1][1] + told[-1][2] == first:
                # Where an edit was taken back, pieces go on where the one before ends.
                key, first, length = told.pop()
                told.append((key, first, length + piece.length))
            else:
                told.append((key, first, piece.length))
        return hashlib.blake2b(repr(told).encode(), digest_size=16).hexdigest()

    def through(self, source: Source) -> Version:
        """Return a version with this one's positions whose sound is another source's, of the same length."""
        lengths = np.diff(self.bounds)
        goes_on = self.origins[1:] == np.where(
            self.origins[:-1] == NO_ORIGIN, NO_ORIGIN, self.origins[:-1] + lengths[:-1]
        )
        heads = np.flatnonzero(np.concatenate([np.ones(min(1, len(lengths)), bool), ~goes_on]))
        bounds = np.append(self.bounds[heads], self.frames)
        return Version(
            self.rate,
            self.channels,
            (source,),
            np.zeros(len(heads), np.int64),
            bounds[:-1],
            self.origins[heads],
            bounds,
        )

    def per_source(self, of: Callable[[Source], int]) -> Integers:
        """Return a number for each source; those known from the version before are not worked out again."""
        columns = self._columns
        if of not in columns:
            columns[of] = np.fromiter(map(of, self.sources), np.int64, len(self.sources))
        return columns[of]

    @cached_property
    def _columns(self) -> dict[Callable[[Source], int], Integers]:
        return {}

    @cached_property
    def source_numbers(self) -> dict[int, int]:
        """Where each source stands in ``sources``, by its identity."""
        return {id(source): number for number, source in enumerate(self.sources)}

    @property
    def frames(self) -> int:
        """Length in frames."""
        return int(self.bounds[-1])

    @property
    def available(self) -> int:
        """Frames from the start that can be read without waiting."""
        waiting = {number for number, source in enumerate(self.sources) if source.available < source.frames}
        if waiting:
            for piece, start in self.pieces():
                if piece.start + piece.length > piece.source.available:
                    return start + max(0, piece.source.available - piece.start)
        return self.frames

    def pieces(self, start: int = 0, stop: int | None = None) -> Iterator[tuple[Piece, int]]:
        """Yield the pieces that make up a span, cut to it, each with its position in the version."""
        stop = self.frames if stop is None else stop
        check_span(start, stop, self.frames)
        if start == stop:
            return
        first = int(np.searchsorted(self.bounds, start, side="right")) - 1
        last = int(np.searchsorted(self.bounds, stop, side="left"))
        for index in range(first, last):
            begin, end = int(self.bounds[index]), int(self.bounds[index + 1])
            cut_begin, cut_end = max(begin, start), min(end, stop)
            skip = cut_begin - begin
            origin = int(self.origins[index])
            yield (
                Piece(
                    self.sources[self.source_index[index]],
                    int(self.starts[index]) + skip,
                    cut_end - cut_begin,
                    origin if origin == NO_ORIGIN else origin + skip,
                ),
                cut_begin,
            )

    def cut(self, starts: npt.ArrayLike, stops: npt.ArrayLike) -> Runs:
        """Return the runs of pieces that make up some spans, which may be empty.

        Raises
        ------
        IndexError
            If a span lies outside the version.
        """
        begins, ends = np.asarray(starts, np.int64), np.asarray(stops, np.int64)
        if len(begins) and not (begins.min() >= 0 and ends.max() <= self.frames and (begins <= ends).all()):
            raise IndexError(f"spans {begins.min()}:{ends.max()} outside 0:{self.frames}")
        first = np.searchsorted(self.bounds, begins, side="right") - 1
        last = np.searchsorted(self.bounds, ends, side="left")
        counts = np.where(ends > begins, last - first, 0)
        before = np.repeat(np.cumsum(counts) - counts, counts)
        rows = np.repeat(first, counts) + np.arange(len(before)) - before
        begin = np.maximum(self.bounds[rows], np.repeat(begins, counts))
        end = np.minimum(self.bounds[rows + 1], np.repeat(ends, counts))
        skip = begin - self.bounds[rows]
        origins = self.origins[rows]
        return Runs(
            counts,
            self.sources,
            self.source_index[rows],
            self.starts[rows] + skip,
            end - begin,
            np.where(origins == NO_ORIGIN, NO_ORIGIN, origins + skip),
        )

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames of a span as float32."""
        parts = self._parts(start, stop, lambda source, first, last: source.read(first, last))
        if len(parts) == 1:
            return parts[0]
        return np.concatenate(parts) if parts else np.zeros((0, self.channels), np.float32)

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames of a span as float64, with every bit that their sources have."""
        parts = self._parts(start, stop, lambda source, first, last: source.read_exact(first, last))
        return np.concatenate(parts) if parts else np.zeros((0, self.channels))

    def _parts(self, start: int, stop: int, read: Callable[[Source, int, int], _Frames]) -> list[_Frames]:
        """Return the frames of the pieces of a span; what many of them take from one place of a source is read in one
        go, as thousands of mends leave hardly a sample between them."""
        pieces = [piece for piece, _ in self.pieces(start, stop)]
        if len(pieces) < _MANY:
            return [read(piece.source, piece.start, piece.start + piece.length) for piece in pieces]
        of_source: dict[int, list[Piece]] = {}
        for piece in pieces:
            of_source.setdefault(id(piece.source), []).append(piece)
        whole: dict[int, tuple[int, _Frames]] = {}
        for number, own in of_source.items():
            first, last = min(piece.start for piece in own), max(piece.start + piece.length for piece in own)
            if len(own) > 1 and last - first <= _MOST_AT_ONCE * (stop - start):
                whole[number] = first, read(own[0].source, first, last)
        parts = []
        for piece in pieces:
            if (known := whole.get(id(piece.source))) is not None:
                begin = piece.start - known[0]
                parts.append(known[1][begin : begin + piece.length])
            else:
                parts.append(read(piece.source, piece.start, piece.start + piece.length))
        return parts

    def spliced(self, starts: Integers, stops: Integers, inserted: Runs) -> Version:
        """Return the version with other runs in place of some spans, ascending and not overlapping: O(pieces)."""
        kept = self.cut(np.concatenate([[0], stops]), np.concatenate([starts, [self.frames]]))
        numbers = self.source_numbers
        sources = list(self.sources)
        new = [source for source in inserted.sources if id(source) not in numbers]
        if new:
            numbers = numbers | {id(source): len(sources) + at for at, source in enumerate(new)}
            sources += new
        placed = np.array([numbers[id(source)] for source in inserted.sources], np.int64)
        # What stays before the first span, what comes into it, what stays before the second, and so on.
        order = np.argsort(np.concatenate([2 * kept.run_of_piece, 2 * inserted.run_of_piece + 1]), kind="stable")

        def woven(own: Integers, its: Integers) -> Integers:
            return np.concatenate([own, its])[order]

        index = woven(kept.index, placed[inserted.index] if len(placed) else inserted.index)
        begins, lengths = woven(kept.starts, inserted.starts), woven(kept.lengths, inserted.lengths)
        origins = woven(kept.origins, inserted.origins)
        heads = np.flatnonzero(~continues(index, begins, lengths, origins))
        lengths = np.add.reduceat(lengths, heads) if len(heads) else lengths
        bounds = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        version = Version(self.rate, self.channels, tuple(sources), index[heads], begins[heads], origins[heads], bounds)
        # Worked out already: saves passes over thousands of patches.
        version.__dict__["source_numbers"] = numbers
        version.__dict__["_columns"] = {
            of: np.concatenate([held, np.fromiter(map(of, new), np.int64, len(new))]) if new else held
            for of, held in self._columns.items()
        }
        return version

    def exchanged(self, instead: Mapping[int, Source]) -> Version:
        """Return the same version reading from other sources of the same content, given by the ids of the old ones."""
        if not instead:
            return self
        version = replace(self, sources=tuple(instead.get(id(source), source) for source in self.sources))
        numbers = dict(self.source_numbers)
        for old, source in instead.items():
            if old in numbers:
                numbers[id(source)] = numbers.pop(old)
        version.__dict__.update(source_numbers=numbers, _columns=dict(self._columns))
        return version

    def places_of(self, run: Runs) -> list[int]:
        """Return every position at which exactly this one run of pieces stands."""
        number = self.source_numbers.get(id(run.sources[run.index[0]]))
        if number is None:
            return []
        start, origin = int(run.starts[0]), int(run.origins[0])
        offset = start - self.starts
        holds = (self.source_index == number) & (offset >= 0) & (offset < np.diff(self.bounds))
        holds &= (self.origins == NO_ORIGIN) if origin == NO_ORIGIN else (self.origins + offset == origin)
        length = int(run.lengths.sum())
        found = []
        for row in np.flatnonzero(holds).tolist():
            position = int(self.bounds[row] + offset[row])
            if position + length <= self.frames and self.cut([position], [position + length]).is_same(run):
                found.append(position)
        return found


def source_digest(source: Source) -> int:
    """Return a number for a source's key."""
    return int.from_bytes(hashlib.blake2b(source.key.encode(), digest_size=8).digest(), "little", signed=True)
