"""A version: an immutable sequence of pieces of sources, and the four primitive edits."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import ArraySource, Samples, Source, check_span

Integers = npt.NDArray[np.int64]

NO_ORIGIN = -1
"""The origin of frames that stand for nothing in the original recording (inserted sound)."""


class Piece(NamedTuple):
    """A run of frames of one source, as it stands in a version.

    ``origin`` is the frame of the original recording that the first frame stands for (the frames after it stand for
    those that follow), or ``NO_ORIGIN``. A rebuilt stretch keeps the origin of what it replaced; that is what lets
    positions map between versions, a span be restored, and the provenance be told.
    """

    source: Source
    start: int
    length: int
    origin: int


@dataclass(frozen=True, eq=False)
class Version:
    """An immutable recording made of pieces; edits return a new version that shares everything else.

    Reading costs O(log pieces + span). A version is itself a source. Use :meth:`of` to make the first.
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
        zero = np.zeros(1, np.int64)
        return cls(source.rate, source.channels, (source,), zero, zero, zero, np.array([0, source.frames]))

    @property
    def key(self) -> str:
        """A name for this object among those alive."""
        return f"version-{id(self):x}"

    @property
    def frames(self) -> int:
        """Length in frames."""
        return int(self.bounds[-1])

    @property
    def available(self) -> int:
        """Frames from the start that can be read without waiting."""
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

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames of a span as float32."""
        parts = [p.source.read(p.start, p.start + p.length) for p, _ in self.pieces(start, stop)]
        if len(parts) == 1:
            return parts[0]
        return np.concatenate(parts) if parts else np.zeros((0, self.channels), np.float32)

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames of a span as float64, with every bit that their sources have."""
        parts = [p.source.read_exact(p.start, p.start + p.length) for p, _ in self.pieces(start, stop)]
        return np.concatenate(parts) if parts else np.zeros((0, self.channels))

    def replace(self, start: int, stop: int, patch: ArraySource) -> Version:
        """Return a version with a span replaced by a patch.

        A patch of the same length stands for the same frames of the original; one of another length for none.

        Raises
        ------
        ValueError
            If the patch's channels differ from the version's.
        """
        if patch.channels != self.channels:
            raise ValueError(f"a patch of {patch.channels} channels for a version of {self.channels}")
        if patch.frames != stop - start:
            return self._splice(start, stop, [Piece(patch, 0, patch.frames, NO_ORIGIN)])
        return self._splice(
            start, stop, [Piece(patch, at - start, old.length, old.origin) for old, at in self.pieces(start, stop)]
        )

    def replace_many(self, patch: ArraySource, starts: Integers, stops: Integers) -> Version:
        """Return a version with many spans replaced by as many parts of one patch, each as long as its span.

        Costs O(pieces + spans), where as many calls of :meth:`replace` would cost their product.

        Parameters
        ----------
        patch : ArraySource
            The parts one after another.
        starts, stops : ndarray of int
            The spans, ascending and apart from each other.

        Raises
        ------
        ValueError
            If the patch does not fit the spans.
        """
        lengths = np.asarray(stops) - np.asarray(starts)
        if patch.channels != self.channels or patch.frames != lengths.sum():
            raise ValueError(f"a patch of {patch.frames} frames for spans of {lengths.sum()}")
        pieces: list[Piece] = []
        offset = at = 0
        for start, stop in zip(map(int, starts), map(int, stops), strict=True):
            pieces += (piece for piece, _ in self.pieces(at, start))
            pieces += (
                Piece(patch, offset + begin - start, old.length, old.origin) for old, begin in self.pieces(start, stop)
            )
            offset += stop - start
            at = stop
        pieces += (piece for piece, _ in self.pieces(at, self.frames))
        return self._of_pieces(0, len(self.starts), _merge(pieces))

    def delete(self, start: int, stop: int) -> Version:
        """Return a version without a span."""
        return self._splice(start, stop, [])

    def insert(self, position: int, patch: Source) -> Version:
        """Return a version with a source's frames put in before ``position``."""
        return self._splice(position, position, [Piece(patch, 0, patch.frames, NO_ORIGIN)])

    def restore(self, start: int, stop: int, original: Version) -> Version:
        """Return a version in which a span is again what the original has between the same two places.

        What was deleted between them comes back; what was inserted goes.
        """
        from umbrick.core.timeline.positions import map_position

        begin = map_position(self, original, start)
        end = max(begin, map_position(self, original, stop))
        return self._splice(start, stop, [piece for piece, _ in original.pieces(begin, end)])

    def _splice(self, start: int, stop: int, inserted: list[Piece]) -> Version:
        check_span(start, stop, self.frames)
        # One piece more on each side, so that neighbours which continue each other are joined again.
        count = len(self.starts)
        first = max(0, int(np.searchsorted(self.bounds, start, side="right")) - 2)
        last = min(count, max(first, int(np.searchsorted(self.bounds, stop, side="left")) + 1))
        around = [
            *(piece for piece, _ in self.pieces(int(self.bounds[first]), start)),
            *inserted,
            *(piece for piece, _ in self.pieces(stop, int(self.bounds[last]))),
        ]
        return self._of_pieces(first, last, _merge([piece for piece in around if piece.length]))

    def _of_pieces(self, first: int, last: int, middle: list[Piece]) -> Version:
        """Return a version with other pieces in place of those from index ``first`` to ``last``."""
        sources, indices = list(self.sources), []
        index_of = {id(source): index for index, source in enumerate(sources)}
        for piece in middle:
            index = index_of.setdefault(id(piece.source), len(sources))
            if index == len(sources):
                sources.append(piece.source)
            indices.append(index)

        def spliced(held: Integers, new: list[int]) -> Integers:
            return np.concatenate([held[:first], np.array(new, np.int64), held[last:]])

        lengths = spliced(np.diff(self.bounds), [piece.length for piece in middle])
        return Version(
            self.rate,
            self.channels,
            tuple(sources),
            spliced(self.source_index, indices),
            spliced(self.starts, [piece.start for piece in middle]),
            spliced(self.origins, [piece.origin for piece in middle]),
            np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64),
        )


def _merge(pieces: list[Piece]) -> list[Piece]:
    """Join neighbours that continue each other, so that restoring leaves no trace."""
    merged: list[Piece] = []
    for piece in pieces:
        if merged:
            last = merged[-1]
            continues_origin = (
                piece.origin == NO_ORIGIN if last.origin == NO_ORIGIN else piece.origin == last.origin + last.length
            )
            if piece.source is last.source and piece.start == last.start + last.length and continues_origin:
                merged[-1] = last._replace(length=last.length + piece.length)
                continue
        merged.append(piece)
    return merged
