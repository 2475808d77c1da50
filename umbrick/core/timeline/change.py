"""A change: some spans of a version become other runs of pieces. Edits, their undoing, and lifting off are all that."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import Source
from umbrick.core.timeline.positions import map_position
from umbrick.core.timeline.runs import NO_ORIGIN, Integers, Piece, Runs
from umbrick.core.timeline.version import Version


@dataclass(frozen=True, eq=False)
class Change:
    """What is done to a version, as a difference: its size is that of the edit, not that of the recording.

    ``starts`` are the spans' beginnings in the version before, ascending; ``removed`` is what stood there and
    ``inserted`` what comes instead. ``left`` and ``right`` are the single frames beside each span (empty runs at the
    ends of the recording): they alone tell where an empty span is.
    """

    starts: Integers
    removed: Runs
    inserted: Runs
    left: Runs
    right: Runs

    @classmethod
    def of(cls, version: Version, starts: npt.ArrayLike, stops: npt.ArrayLike, inserted: Runs) -> Change:
        """Return the change that puts runs in place of spans, which ascend and do not overlap.

        Raises
        ------
        ValueError
            If there are not as many runs as spans, or spans overlap.
        """
        begins, ends = np.asarray(starts, np.int64), np.asarray(stops, np.int64)
        if len(begins) != len(inserted) or (begins[1:] < ends[:-1]).any():
            raise ValueError(f"{len(inserted)} runs for {len(begins)} spans, or spans that overlap")
        removed = version.cut(begins, ends)
        left = version.cut(np.maximum(begins - 1, 0), begins)
        right = version.cut(ends, np.minimum(ends + 1, version.frames))
        return cls(begins, removed.compact(), inserted.joined().compact(), left.compact(), right.compact())

    def __len__(self) -> int:
        return len(self.starts)

    @property
    def stops(self) -> Integers:
        """Where the spans end in the version before."""
        return self.starts + self.removed.frames

    @property
    def time_shift(self) -> int:
        """How many frames longer the version becomes."""
        return int(self.inserted.lengths.sum() - self.removed.lengths.sum())

    @property
    def moves(self) -> bool:
        """Whether anything after one of the spans comes earlier or later."""
        return bool((self.inserted.frames != self.removed.frames).any())

    def inverse(self) -> Change:
        """Return the change that takes this one back."""
        grown = self.inserted.frames - self.removed.frames
        return Change(self.starts + np.cumsum(grown) - grown, self.inserted, self.removed, self.left, self.right)

    def fits(self, version: Version) -> bool:
        """Whether a version has at the change's spans what the change takes out there."""
        stops = self.stops
        if len(stops) and int(stops[-1]) > version.frames:
            return False
        return version.cut(self.starts, stops).joined().is_alike(self.removed.joined())

    def apply(self, version: Version) -> Version:
        """Return the version after the change, which must have been made for this one or one of equal content."""
        return version.spliced(self.starts, self.stops, self.inserted)


def applied(version: Version, changes: Iterable[Change]) -> Version:
    """Return the version after changes, one after another."""
    for change in changes:
        version = change.apply(version)
    return version


def replace(version: Version, start: int, stop: int, patch: Source) -> Change:
    """Return the change that puts a patch in place of a span.

    A patch of the same length stands for the same frames of the original; one of another length for none.

    Raises
    ------
    ValueError
        If the patch's channels differ from the version's.
    """
    if patch.frames == stop - start:
        return replace_many(version, patch, [start], [stop])
    _check_channels(version, patch)
    return Change.of(version, [start], [stop], Runs.of([[Piece(patch, 0, patch.frames, NO_ORIGIN)]]))


def replace_many(version: Version, patch: Source, starts: npt.ArrayLike, stops: npt.ArrayLike) -> Change:
    """Return the change that puts the parts of one patch in place of as many spans, each part as long as its span.

    Parameters
    ----------
    version : Version
    patch : Source
        The parts one after another.
    starts, stops : array_like of int
        The spans, ascending and not overlapping.

    Raises
    ------
    ValueError
        If the patch does not fit the spans.
    """
    _check_channels(version, patch)
    removed = version.cut(starts, stops)
    if patch.frames != removed.lengths.sum():
        raise ValueError(f"a patch of {patch.frames} frames for spans of {removed.lengths.sum()}")
    offsets = np.cumsum(removed.lengths) - removed.lengths
    index = np.zeros(len(offsets), np.int64)
    inserted = Runs(removed.counts, (patch,), index, offsets, removed.lengths, removed.origins)
    return Change.of(version, starts, stops, inserted)


def delete(version: Version, start: int, stop: int) -> Change:
    """Return the change that takes a span out."""
    return Change.of(version, [start], [stop], Runs.of([[]]))


def insert(version: Version, position: int, patch: Source) -> Change:
    """Return the change that puts a source's frames in before ``position``."""
    _check_channels(version, patch)
    return Change.of(version, [position], [position], Runs.of([[Piece(patch, 0, patch.frames, NO_ORIGIN)]]))


def restore(version: Version, start: int, stop: int, original: Version) -> Change:
    """Return the change after which a span is again what the original has between the same two places.

    What was deleted between them comes back; what was inserted goes.
    """
    begin = map_position(version, original, start)
    end = max(begin, map_position(version, original, stop))
    return Change.of(version, [start], [stop], original.cut([begin], [end]))


def _check_channels(version: Version, patch: Source) -> None:
    if patch.channels != version.channels:
        raise ValueError(f"a patch of {patch.channels} channels for a version of {version.channels}")
