"""Pieces of a recording as one channel at a given rate, with the time at which each begins."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np
import soxr

from umbrick.core.errors import CancelledError
from umbrick.core.linking.correlation import Wave
from umbrick.core.sound.source import Source

_BLOCK_SECONDS = 8.0


class Excerpt(NamedTuple):
    """``begins`` is the time of the first value of ``wave``, in seconds of the recording."""

    begins: float
    wave: Wave


def excerpt(source: Source, seconds: float, length: float, rate: int) -> Excerpt:
    """Return so many seconds of a recording from a time on, as far as it goes, at a rate."""
    start = min(max(0, round(seconds * source.rate)), source.frames)
    stop = min(max(start, round((seconds + length) * source.rate)), source.frames)
    mono = source.read(start, stop).mean(axis=1)
    return Excerpt(start / source.rate, resampled(mono, source.rate, rate))


def resampled(wave: Wave, rate: int, wanted: int) -> Wave:
    """Return a wave at another rate; its first value stays the first."""
    if rate == wanted or not len(wave):
        return wave
    return np.asarray(soxr.resample(wave, rate, wanted, quality="HQ"), np.float32)


def streamed(
    source: Source, rate: int, progress: Callable[[float], None], is_cancelled: Callable[[], bool]
) -> Iterator[Wave]:
    """Yield all of a recording in order at a rate; CancelledError if ``is_cancelled`` says so."""
    resampler = soxr.ResampleStream(source.rate, rate, 1, dtype="float32", quality="MQ")
    block = round(_BLOCK_SECONDS * source.rate)
    for start in range(0, source.frames, block):
        if is_cancelled():
            raise CancelledError
        stop = min(start + block, source.frames)
        yield resampler.resample_chunk(source.read(start, stop).mean(axis=1), last=stop == source.frames)
        progress(stop / source.frames)
