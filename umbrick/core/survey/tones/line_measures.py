"""What is measured of a line in the spectrum to tell whether it is foreign: its shape, its ends, and its fellows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.tones.ridges import Ridge

Array = npt.NDArray[np.float64]

SHORTEST_SECONDS = 0.25
_TOGETHER_SECONDS = 0.05
_STEPS_AN_OCTAVE, _STEPS_SHORTER, _DB_WEAKER = 12, 6, 10
"""A rival of a line is at least about 0.7 times as long, and weaker by at most so much."""


class Line(NamedTuple):
    """A line of frames ``start`` to ``stop``, where it lies, and its shape."""

    start: int
    stop: int
    low_hz: float
    high_hz: float
    ridge: Ridge


def measured(lines: Sequence[Line], usual: float, frames: int, rate: int) -> dict[str, Array]:
    """Return what lines are weighed by, a column each by name, with an item for each line.

    Parameters
    ----------
    lines : sequence of Line
        All of a recording, at least one.
    usual : float
        Mean power of the recording's spectra.
    frames, rate : int
        Of the recording.
    """
    shape = dict(zip(Ridge._fields, np.array([line.ridge for line in lines], np.float64).T, strict=True))
    starts, stops, low_hz, high_hz = np.array([line[:4] for line in lines], np.float64).T
    seconds = (stops - starts) / rate
    levels_db = 10 * np.log10(shape["power"] / max(usual, 1e-12))
    reach = _TOGETHER_SECONDS * rate
    in_order = np.sort(starts)
    together = np.searchsorted(in_order, starts + reach) - np.searchsorted(in_order, starts - reach, "right")
    return {
        "over what is beside": np.minimum(shape["over_db"], 40),
        "octaves of length": np.minimum(np.log2(seconds / SHORTEST_SECONDS), 3),
        "kHz": np.minimum(low_hz / 1000, 2),
        "level": np.clip(levels_db, -40, 6),
        "octaves of rivals a second": np.log2(0.1 + _rivals(seconds, levels_db) * rate / frames),
        "octaves of others that begin with it": np.log2(together),
        "dies away": np.clip(shape["decay_db"], 0, 15),
        "octaves of width": np.log2(1 + (high_hz - low_hz) / 50),
        "onset": np.clip(shape["onset_db"], 0, 30),
        "release": np.clip(shape["release_db"], 0, 30),
        "ripple": np.clip(shape["ripple_db"], 0, 8),
        "octaves of bend": np.log2(0.2 + shape["bend"]),
        "constant": np.ones(len(lines)),
    }


def _rivals(seconds: Array, levels_db: Array) -> npt.NDArray[np.int64]:
    """Return how many others are about as long as each line or longer, and about as strong or stronger."""
    length = np.floor(_STEPS_AN_OCTAVE * np.log2(seconds)).astype(np.int64)
    level = np.floor(levels_db).astype(np.int64)
    length, level = length - length.min(), level - level.min()
    counts = np.zeros((int(length.max()) + 1, int(level.max()) + 1), np.int64)
    np.add.at(counts, (length, level), 1)
    at_least = counts[::-1, ::-1].cumsum(axis=0).cumsum(axis=1)[::-1, ::-1]
    return np.asarray(at_least[np.maximum(0, length - _STEPS_SHORTER), np.maximum(0, level - _DB_WEAKER)] - 1)
