"""The peaks of what a course makes, as far as its tiles have been worked out: what the strips draw of it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.pyramid import Extent
from umbrick.core.sound.source import Samples

OVERVIEW_BUCKET = 1024
"""Frames in a bucket; a tile is a whole number of them."""


class Overview:
    """The extents of a rendered source in buckets. One thread fills it while others read.

    Parameters
    ----------
    frames, channels, tile : int
        ``tile`` is the length of a tile in frames.
    touched : ndarray of bool
        Which tiles a course acts in; the others are drawn as they are beneath it.
    """

    def __init__(self, frames: int, channels: int, tile: int, touched: npt.NDArray[np.bool_]) -> None:
        self.frames, self._tile = frames, tile
        self._buckets = Extent.nothing(-(-frames // OVERVIEW_BUCKET), channels)
        self.touched = touched
        self.known = ~touched
        """Of each tile, whether nothing is left to be worked out in it."""
        self.highest = 0.0
        """The highest absolute sample of the touched tiles that are known."""

    @property
    def is_complete(self) -> bool:
        """Whether every tile is known."""
        return bool(self.known.all())

    @property
    def unknown(self) -> npt.NDArray[np.int64]:
        """The tiles that are not known yet."""
        return np.flatnonzero(~self.known)

    def fill(self, index: int, extent: Extent) -> None:
        """Take the extents of a tile."""
        first = index * self._tile // OVERVIEW_BUCKET
        for held, new in zip(self._buckets, extent, strict=True):
            held[first : first + len(new)] = new
        self.highest = max(self.highest, float(extent.high.max()), -float(extent.low.min()))
        self.known[index] = True

    def within(self, start: int, stop: int) -> tuple[int, Extent]:
        """Return the frame at which the buckets of a span begin, and their extents; nothing where it is not known."""
        first, last = start // OVERVIEW_BUCKET, -(-stop // OVERVIEW_BUCKET)
        return first * OVERVIEW_BUCKET, Extent(*(array[first:last] for array in self._buckets))


def extents_of(samples: Samples) -> Extent:
    """Return the extents of a tile's buckets, the last of which may be shorter."""
    starts = np.arange(0, len(samples), OVERVIEW_BUCKET)
    lengths = np.diff(np.append(starts, len(samples)))[:, np.newaxis]
    energy = np.add.reduceat(np.square(samples, dtype=np.float32), starts)
    return Extent(
        np.minimum.reduceat(samples, starts),
        np.maximum.reduceat(samples, starts),
        (energy / lengths).astype(np.float32),
    )
