"""Pieces of sources, and runs of them as arrays: what versions and changes are made of."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import Source

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


@dataclass(eq=False)
class Runs:
    """Several runs of pieces, one after another, as arrays; none of the pieces is empty. Never changed once made.

    ``counts`` tells how many pieces belong to each run (0 for an empty one); the other arrays have one entry a piece,
    and ``index`` points into ``sources``.
    """

    counts: Integers
    sources: tuple[Source, ...]
    index: Integers
    starts: Integers
    lengths: Integers
    origins: Integers

    @classmethod
    def of(cls, runs: Sequence[Iterable[Piece]]) -> Runs:
        """Return runs of given pieces; those that continue each other are joined."""
        counts, pieces = [], []
        for run in runs:
            kept = [piece for piece in run if piece.length]
            counts.append(len(kept))
            pieces += kept
        sources: dict[int, Source] = {}
        for piece in pieces:
            sources.setdefault(id(piece.source), piece.source)
        number = {name: index for index, name in enumerate(sources)}
        columns = [(number[id(p.source)], p.start, p.length, p.origin) for p in pieces]
        table = np.array(columns, np.int64).reshape(-1, 4).T
        return cls(np.array(counts, np.int64), tuple(sources.values()), *table).joined()

    def __len__(self) -> int:
        return len(self.counts)

    @cached_property
    def _ends(self) -> Integers:
        return np.cumsum(self.counts)

    @property
    def frames(self) -> Integers:
        """Length of each run in frames."""
        ends = np.concatenate([[0], np.cumsum(self.lengths)])
        return np.asarray(ends[self._ends] - ends[self._ends - self.counts], np.int64)

    @property
    def run_of_piece(self) -> Integers:
        """Which run each piece belongs to."""
        return np.repeat(np.arange(len(self.counts)), self.counts)

    def pieces(self) -> Iterator[Piece]:
        """Yield every piece."""
        for index, start, length, origin in zip(*self.columns(), strict=True):
            yield Piece(self.sources[index], start, length, origin)

    def columns(self) -> tuple[list[int], list[int], list[int], list[int]]:
        """Return index, starts, lengths and origins as lists."""
        return self.index.tolist(), self.starts.tolist(), self.lengths.tolist(), self.origins.tolist()

    def run(self, number: int) -> Runs:
        """Return one run alone."""
        last = int(self._ends[number])
        part = slice(last - int(self.counts[number]), last)
        return Runs(
            self.counts[number : number + 1],
            self.sources,
            self.index[part],
            self.starts[part],
            self.lengths[part],
            self.origins[part],
        )

    def joined(self) -> Runs:
        """Return the same runs with neighbours that continue each other as one: restoring leaves no trace."""
        if len(self.index) < 2:
            return self
        first = ~continues(self.index, self.starts, self.lengths, self.origins)
        run = self.run_of_piece
        first |= np.concatenate([[True], run[1:] != run[:-1]])
        if first.all():
            return self
        heads = np.flatnonzero(first)
        return Runs(
            np.bincount(run[heads], minlength=len(self.counts)).astype(np.int64),
            self.sources,
            self.index[heads],
            self.starts[heads],
            np.add.reduceat(self.lengths, heads),
            self.origins[heads],
        )

    def compact(self) -> Runs:
        """Return the same runs holding on to no other source than those they use."""
        used, index = np.unique(self.index, return_inverse=True)
        sources = tuple(self.sources[number] for number in used.tolist())
        return Runs(self.counts, sources, index.astype(np.int64), self.starts, self.lengths, self.origins)

    def is_same(self, other: Runs) -> bool:
        """Whether both are the same frames of the same sources standing for the same frames of the original."""
        return self._has_places_of(other) and all(
            self.sources[own] is other.sources[its]
            for own, its in zip(self.index.tolist(), other.index.tolist(), strict=True)
        )

    def is_alike(self, other: Runs) -> bool:
        """Whether both are the same frames of sources of the same content."""
        return self._has_places_of(other) and all(
            self.sources[own].key == other.sources[its].key
            for own, its in {*zip(self.index.tolist(), other.index.tolist(), strict=True)}
        )

    def _has_places_of(self, other: Runs) -> bool:
        return (
            np.array_equal(self.counts, other.counts)
            and np.array_equal(self.starts, other.starts)
            and np.array_equal(self.lengths, other.lengths)
            and np.array_equal(self.origins, other.origins)
        )


def continues(index: Integers, starts: Integers, lengths: Integers, origins: Integers) -> npt.NDArray[np.bool_]:
    """Return for each piece whether it goes on exactly where the one before it ends (never for the first)."""
    result = np.zeros(len(index), np.bool_)
    ends = starts[:-1] + lengths[:-1]
    follows = np.where(origins[:-1] == NO_ORIGIN, NO_ORIGIN, origins[:-1] + lengths[:-1])
    result[1:] = (index[1:] == index[:-1]) & (starts[1:] == ends) & (origins[1:] == follows)
    return result
