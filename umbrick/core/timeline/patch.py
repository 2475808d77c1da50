"""A patch: the samples a mend made, and what kind of making it was."""

from __future__ import annotations

import hashlib
from enum import Enum
from typing import Protocol

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import ArraySource, Source


class Nature(Enum):
    """Where the frames of a version come from; the values are the words shown and written."""

    ORIGINAL = "original"
    REBUILT = "rebuilt"
    GRAFTED = "grafted"
    RELEVELLED = "re-levelled"
    FILTERED = "filtered"
    MOVED = "moved"


class PatchSource(Source, Protocol):
    """A source of made samples; ``donor`` is the original's frame a graft was taken from, else None."""

    nature: Nature
    donor: int | None


class Patch(ArraySource):
    """A patch in memory, named by its content.

    Parameters
    ----------
    samples : array_like, shape (frames, channels)
    rate : int
        Frames a second.
    nature : Nature
    donor : int, optional
        The original's frame a graft was taken from.
    """

    def __init__(
        self, samples: npt.ArrayLike, rate: int, nature: Nature = Nature.REBUILT, donor: int | None = None
    ) -> None:
        array = np.ascontiguousarray(samples)
        super().__init__(array, rate, hashlib.blake2b(array.tobytes(), digest_size=16).hexdigest())
        self.nature = nature
        self.donor = donor
