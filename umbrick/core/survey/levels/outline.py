"""The dynamic outline of a block: peak and power of each segment of about 20 ms, shared by what compares levels."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block
from umbrick.core.survey.impulses.residual import segment_frames

Floats = npt.NDArray[np.float32]

_LOUD_PERCENTILE = 95


class Outline(NamedTuple):
    """One value a segment, over all channels: the highest absolute sample, and the mean power."""

    peak: Floats
    power: Floats

    @classmethod
    def joined(cls, parts: list[Outline]) -> Outline:
        """Return the outlines of blocks in order as one."""
        if not parts:
            return cls(np.zeros(0, np.float32), np.zeros(0, np.float32))
        return cls(*(np.concatenate(arrays) for arrays in zip(*parts, strict=True)))


def outline(block: Block) -> Outline:
    """Return a block's outline; the last segment of a recording may be short."""
    segment = segment_frames(block.rate)
    own = block.own
    whole = len(own) // segment * segment
    parts = [_of(own[:whole].reshape(-1, segment * own.shape[1]))]
    if whole < len(own):
        parts.append(_of(own[whole:].reshape(1, -1)))
    return Outline.joined(parts)


def _of(segments: Floats) -> Outline:
    """Return the outline of segments, a row of samples each."""
    power = np.einsum("sk,sk->s", segments, segments) / np.float32(segments.shape[1])
    return Outline(np.abs(segments).max(axis=1), power.astype(np.float32))


def decibels(power: npt.NDArray[Any]) -> npt.NDArray[np.float64]:
    """Return powers in dB, at least −120."""
    return 10 * np.log10(np.maximum(power.astype(np.float64), 1e-12))


def levels_of(outlines: list[Outline]) -> npt.NDArray[np.float64]:
    """Return the levels of a recording's segments in dB, from the outlines of its blocks."""
    return decibels(Outline.joined(outlines).power)


def loud_db(levels_db: npt.NDArray[np.float64]) -> float:
    """Return how loud the loud passages are, in dB: the level that one segment in twenty passes; of none −120."""
    return float(np.percentile(levels_db, _LOUD_PERCENTILE)) if len(levels_db) else -120.0
