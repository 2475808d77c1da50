"""Peaks and energy of a source in ever longer buckets, so that any span can be drawn without reading it."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import CancelledError
from umbrick.core.sound.part_file import PartFile, sweep
from umbrick.core.sound.source import Samples, Source

BUCKET = 256
"""Frames in a bucket of the finest level."""

_FAN = 4
_LEVELS = 6
_BLOCK = BUCKET * _FAN ** (_LEVELS - 1)

Floats = npt.NDArray[np.float32]


class Extent(NamedTuple):
    """Lowest and highest sample and mean square of some spans: three arrays of shape ``(spans, channels)``.

    A span in which nothing was measured has ``low > high`` (infinities) and a mean square of 0.
    """

    low: Floats
    high: Floats
    mean_square: Floats

    @classmethod
    def nothing(cls, spans: int, channels: int) -> Extent:
        """Return the extent of spans of which nothing is known."""
        return cls(
            np.full((spans, channels), np.inf, np.float32),
            np.full((spans, channels), -np.inf, np.float32),
            np.zeros((spans, channels), np.float32),
        )

    @classmethod
    def of(cls, samples: Samples) -> Extent:
        """Measure one span of at least one frame."""
        return cls(
            samples.min(axis=0, keepdims=True),
            samples.max(axis=0, keepdims=True),
            np.square(samples, dtype=np.float32).mean(axis=0, keepdims=True),
        )


class Pyramid:
    """The extents of a source in buckets of 256 · 4ᵏ frames.

    It may be read by any thread while one thread fills it: buckets not yet measured are absent from what is drawn.
    """

    def __init__(self, frames: int, channels: int) -> None:
        self.frames = frames
        self.channels = channels
        self.measured_frames = 0
        self._levels = [Extent.nothing(-(-frames // (BUCKET * _FAN**level)), channels) for level in range(_LEVELS)]

    @property
    def is_complete(self) -> bool:
        """Whether every frame has been measured."""
        return self.measured_frames >= self.frames

    def add(self, samples: Samples) -> None:
        """Measure the frames that follow those measured so far: 262,144 of them, or all that are left."""
        start = self.measured_frames
        finest = _measure(samples)
        bucket = BUCKET
        extent = finest
        for level in self._levels:
            first = start // bucket
            for held, new in zip(level, extent, strict=True):
                held[first : first + len(new)] = new
            extent = _coarsen(extent, bucket, len(samples))
            bucket *= _FAN
        self.measured_frames = start + len(samples)

    def buckets(self, start: int, stop: int, longest: int) -> tuple[int, Extent]:
        """Return the bucket length used, and views of the buckets that cover ``start`` to ``stop``.

        The coarsest level whose buckets are at most ``longest`` frames is used (the finest if none is).
        """
        level = 0
        while level + 1 < _LEVELS and BUCKET * _FAN ** (level + 1) <= longest:
            level += 1
        bucket = BUCKET * _FAN**level
        first, last = start // bucket, -(-stop // bucket)
        return bucket, Extent(*(array[first:last] for array in self._levels[level]))

    def save(self, path: Path) -> None:
        """Write the finished pyramid; OSError if there is no room."""
        path.parent.mkdir(parents=True, exist_ok=True)
        sweep(path.parent)
        with PartFile(path.parent) as part:
            with os.fdopen(os.dup(part.handle), "wb") as file:
                np.save(file, np.stack([np.concatenate(arrays) for arrays in zip(*self._levels, strict=True)]))
            part.take_name(path)

    @classmethod
    def load(cls, path: Path, frames: int, channels: int) -> Pyramid | None:
        """Return a saved pyramid, or None if there is none or it does not fit such a source."""
        pyramid = cls(frames, channels)
        try:
            stacked = np.load(path, allow_pickle=False)
        except (OSError, ValueError, EOFError):
            return None
        lengths = [len(level.low) for level in pyramid._levels]
        if stacked.shape != (3, sum(lengths), channels) or stacked.dtype != np.float32:
            return None
        cuts = np.cumsum(lengths)[:-1]
        pyramid._levels = [Extent(*arrays) for arrays in zip(*(np.split(a, cuts) for a in stacked), strict=True)]
        pyramid.measured_frames = frames
        return pyramid


def build(
    pyramid: Pyramid,
    source: Source,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> None:
    """Measure the rest of ``source`` into ``pyramid``.

    Raises
    ------
    FileError
        If the source fails.
    CancelledError
        If ``is_cancelled`` says so between two blocks; the pyramid then stays as far as it came.
    """
    starts = range(pyramid.measured_frames, source.frames, _BLOCK)
    # One block is read ahead while the last is measured.
    with ThreadPoolExecutor(1, thread_name_prefix="read ahead") as reader:

        def ask(start: int) -> Future[Samples]:
            return reader.submit(source.read, start, min(start + _BLOCK, source.frames))

        ahead = ask(starts[0]) if starts else None
        for start in starts:
            if is_cancelled():
                raise CancelledError
            assert ahead is not None
            samples = ahead.result()
            ahead = ask(start + _BLOCK) if start + _BLOCK < source.frames else None
            pyramid.add(samples)
            progress(pyramid.measured_frames / source.frames)


def sketch(source: Source, columns: int, probe_frames: int = 384) -> Extent:
    """Return a first, coarse look at a whole source: a short probe in the middle of each of ``columns`` parts.

    Only frames that are available at once are read. A peak between the probes is missed, so this is drawn only
    until the pyramid has come that far.
    """
    extent = Extent.nothing(columns, source.channels)
    for column in range(columns):
        middle = (2 * column + 1) * source.frames // (2 * columns)
        start = max(0, middle - probe_frames // 2)
        stop = min(start + probe_frames, source.frames)
        if stop > source.available:
            break
        if stop > start:
            for held, new in zip(extent, Extent.of(source.read(start, stop)), strict=True):
                held[column] = new[0]
    return extent


def _measure(samples: Samples) -> Extent:
    # Channels apart and buckets contiguous: the minimum along the last axis then runs at memory speed.
    whole = len(samples) // BUCKET * BUCKET
    apart = np.ascontiguousarray(samples[:whole].T).reshape(samples.shape[1], -1, BUCKET)
    extent = Extent(
        apart.min(axis=-1).T, apart.max(axis=-1).T, np.einsum("cbf,cbf->bc", apart, apart) / np.float32(BUCKET)
    )
    if whole == len(samples):
        return extent
    return Extent(*(np.concatenate(pair) for pair in zip(extent, Extent.of(samples[whole:]), strict=True)))


def _coarsen(extent: Extent, bucket: int, frames: int) -> Extent:
    """Join buckets of ``bucket`` frames, the last of which ends after ``frames`` in all, by fours."""
    starts = np.arange(0, len(extent.low), _FAN)
    lengths = np.full((len(extent.low), 1), bucket, np.float32)
    lengths[-1] = frames - (len(lengths) - 1) * bucket
    energy = np.add.reduceat(extent.mean_square * lengths, starts) / np.add.reduceat(lengths, starts)
    return Extent(
        np.minimum.reduceat(extent.low, starts),
        np.maximum.reduceat(extent.high, starts),
        energy.astype(np.float32),
    )
