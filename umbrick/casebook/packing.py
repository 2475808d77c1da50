"""Runs and changes as bytes. What comes out of a casebook is checked before anything relies on it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.casebook.errors import DamagedCasebookError
from umbrick.casebook.limits import MOST_FRAMES
from umbrick.core.sound.source import Source
from umbrick.core.timeline.change import Change
from umbrick.core.timeline.runs import NO_ORIGIN, Integers, Runs

_LITTLE = np.dtype("<i8")

RECORDING = 0
"""Stands for the recording itself where others are patches, which count from 1."""


def pack_integers(values: npt.ArrayLike) -> bytes:
    """Return integers as little-endian 64-bit words."""
    return np.asarray(values).astype(_LITTLE).tobytes()


def unpack_integers(data: bytes) -> Integers:
    """Return packed integers; DamagedCasebookError if they are no whole number of words."""
    if len(data) % 8:
        raise DamagedCasebookError("A list of numbers is cut off.")
    return np.frombuffer(data, _LITTLE).astype(np.int64)


def pack_runs(runs: Runs, id_of: Callable[[Source], int]) -> bytes:
    """Return runs as bytes: how many, their counts, then one row a piece with its source's id."""
    ids = np.array([id_of(source) for source in runs.sources], np.int64)
    index = ids[runs.index] if len(ids) else runs.index
    rows = np.stack([index, runs.starts, runs.lengths, runs.origins], axis=1)
    return pack_integers(np.concatenate([[len(runs.counts)], runs.counts, rows.ravel()]))


def unpack_runs(data: bytes, sources: Mapping[int, Source]) -> Runs:
    """Return packed runs.

    Raises
    ------
    DamagedCasebookError
        If the bytes do not make sense, or name frames that their sources do not have.
    """
    return _Rows([data], sources).runs()[0]


class Unpacked(NamedTuple):
    """A change as read back: where its last span ends, and by how many frames it makes the recording longer."""

    change: Change
    reach: int
    time_shift: int


def unpack_changes(
    packed: Sequence[tuple[bytes, ...]], sources: Mapping[int, Source]
) -> list[Unpacked | DamagedCasebookError]:
    """Return packed changes: for each its starts, what it removed and inserted, and the frames before and after.

    All are unpacked together, as a history of ten thousand small ones should open in a moment; where one makes no
    sense, its place holds the error.
    """
    try:
        return list(_unpacked(packed, sources))
    except DamagedCasebookError as error:
        if len(packed) == 1:
            return [error]
        return [unpack_changes([one], sources)[0] for one in packed]


def _unpacked(packed: Sequence[tuple[bytes, ...]], sources: Mapping[int, Source]) -> list[Unpacked]:
    if not packed:
        return []
    at_of, *sides = zip(*packed, strict=True)
    at, bounds = _joined(at_of)
    out, into, before, after = (_Rows(side, sources) for side in sides)
    spans = np.diff(bounds)
    if not all(np.array_equal(side.run_counts, spans) for side in (out, into, before, after)):
        raise DamagedCasebookError("An edit's parts do not fit each other.")
    removed, inserted = out.run_frames(), into.run_frames()
    ends = at + removed
    first = np.zeros(len(at) + 1, np.bool_)
    first[bounds] = True
    overlaps = (at[1:] < ends[:-1]) & ~first[1:-1]
    if (at < 0).any() or (at > MOST_FRAMES).any() or overlaps.any():
        raise DamagedCasebookError("An edit's spans overlap.")
    grown = np.concatenate([[0], np.cumsum(inserted - removed)])
    shifts = grown[bounds[1:]] - grown[bounds[:-1]]
    reaches = np.where(spans > 0, np.concatenate([ends, [0]])[bounds[1:] - 1], 0)
    limits = bounds.tolist()
    columns = (out.runs(), into.runs(), before.runs(), after.runs(), reaches.tolist(), shifts.tolist())
    return [
        Unpacked(Change(at[low:high], *parts), reach, shift)
        for low, high, *parts, reach, shift in zip(limits, limits[1:], *columns, strict=False)
    ]


class _Rows:
    """Many packed runs, one after another."""

    def __init__(self, packed: Sequence[bytes], sources: Mapping[int, Source]) -> None:
        words, bounds = _joined(packed)
        sizes = np.diff(bounds)
        if (sizes < 1).any():
            raise DamagedCasebookError("A list of pieces is cut off.")
        runs = words[bounds[:-1]]
        rows = sizes - 1 - runs
        if (runs < 0).any() or (rows < 0).any() or (rows % 4).any():
            raise DamagedCasebookError("A list of pieces is cut off.")
        # Each is: how many runs, their counts, then four words a row.
        place = np.arange(len(words)) - np.repeat(bounds[:-1], sizes)
        is_row = place > np.repeat(runs, sizes)
        table = words[is_row].reshape(-1, 4)
        self.counts = words[~is_row & (place > 0)]
        self.run_counts = runs
        self.row_counts = rows // 4
        ids, self.starts, self.lengths, self.origins = (np.ascontiguousarray(column) for column in table.T)
        totals = np.concatenate([[0], np.cumsum(self.counts)])
        run_bounds = np.concatenate([[0], np.cumsum(runs)])
        if (self.counts < 0).any() or (np.diff(totals[run_bounds]) != self.row_counts).any():
            raise DamagedCasebookError("A list of pieces does not add up.")
        used, self.index = np.unique(ids, return_inverse=True)
        try:
            self.sources = [sources[number] for number in used.tolist()]
        except KeyError as error:
            raise DamagedCasebookError(f"Patch {error.args[0]} is missing.") from error
        lengths = np.array([source.frames for source in self.sources], np.int64)
        frames = lengths[self.index] if len(lengths) else self.lengths
        inside = (self.starts >= 0) & (self.lengths > 0) & (self.starts <= frames)
        inside &= (self.lengths <= frames - self.starts) & (self.origins >= NO_ORIGIN) & (self.origins <= MOST_FRAMES)
        if not inside.all():
            raise DamagedCasebookError("A list of pieces names samples that do not exist.")

    def run_frames(self) -> Integers:
        """Return the length of every run."""
        totals = np.concatenate([[0], np.cumsum(self.lengths)])
        ends = np.cumsum(self.counts)
        return np.asarray(totals[ends] - totals[ends - self.counts], np.int64)

    def runs(self) -> list[Runs]:
        """Return what each of the packed ones is."""
        result = []
        run, row = 0, 0
        own = self.index.tolist()
        only_first = np.zeros(1, np.int64)
        for runs, rows in zip(self.run_counts.tolist(), self.row_counts.tolist(), strict=True):
            part = slice(row, row + rows)
            if rows == 1:
                sources: tuple[Source, ...] = (self.sources[own[row]],)
                index = only_first
            else:
                used, index = np.unique(self.index[part], return_inverse=True)
                sources = tuple(self.sources[number] for number in used.tolist())
            result.append(
                Runs(
                    self.counts[run : run + runs],
                    sources,
                    index,
                    self.starts[part],
                    self.lengths[part],
                    self.origins[part],
                )
            )
            run, row = run + runs, row + rows
        return result


def _joined(packed: Sequence[bytes]) -> tuple[Integers, Integers]:
    """Return the words of many packed lists one after another, and the bounds of each."""
    sizes = [len(data) for data in packed]
    if any(size % 8 for size in sizes):
        raise DamagedCasebookError("A list of numbers is cut off.")
    bounds = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64) // 8
    return unpack_integers(b"".join(packed)), bounds
