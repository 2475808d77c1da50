"""The noise floor's spectrum: in each band, the level that the sound never leaves, if it lingers there."""

from __future__ import annotations

from itertools import pairwise
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block
from umbrick.core.survey.levels.fine_bands import EDGES_HZ, fine_bands, hop_frames

Floats = npt.NDArray[np.float32]

_FRAME_SECONDS = 0.043
_LINGERING_DB = 1.5


class NoiseFloor(NamedTuple):
    """For each band between ``EDGES_HZ``: the floor's level in dBFS, and the share of the time spent within 1.5 dB."""

    levels_db: npt.NDArray[np.float64]
    lingering: npt.NDArray[np.float64]
    loud_db: float


def floor_frames(block: Block) -> Floats:
    """Return the bands of a block in frames of about 43 ms."""
    bands = block.shared(fine_bands)
    group = max(1, round(_FRAME_SECONDS * block.rate / hop_frames(block.rate)))
    whole = len(bands) // group * group
    return np.asarray(bands[:whole].reshape(-1, group, bands.shape[1]).mean(axis=1), np.float32)


def noise_floor(frames: Floats) -> NoiseFloor | None:
    """Return the noise floor of frames of a recording, or None if there are too few.

    Steady noise piles up the levels of all frames in which nothing sounds within little more than a decibel (minimum
    statistics, after R. Martin, 2001); sound that just dies away does not.
    """
    sounding = frames[frames.sum(axis=1) > 1e-13]
    if len(sounding) < 40:
        return None
    levels_db = 10 * np.log10(np.maximum(sounding.astype(np.float64), 1e-14))
    floors = np.percentile(levels_db, 4, axis=0)
    near = np.abs(levels_db - floors) < _LINGERING_DB
    total = 10 * np.log10(sounding.sum(axis=1).astype(np.float64))
    return NoiseFloor(floors, near.mean(axis=0), float(np.percentile(total, 90)))


def bands_text() -> list[str]:
    """Return the bands' names."""
    return [f"{low:.0f} to {high:.0f} Hz" for low, high in pairwise(EDGES_HZ)]
