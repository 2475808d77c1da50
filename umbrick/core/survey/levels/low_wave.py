"""The lowest octaves of a recording, at a rate that just holds them: shared by what looks for hum and thumps."""

from __future__ import annotations

from bisect import bisect_right

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.decimation import decimated
from umbrick.core.survey.detector import Block

Floats = npt.NDArray[np.float32]

_LOWEST_RATE = 1400
_TAPS_PER_STEP = 8


def step_for(rate: int) -> int:
    """Return how many frames become one of the low wave: the power of two that leaves at least 1.4 kHz."""
    return max(1, 1 << int(np.log2(rate / _LOWEST_RATE)))


def low_wave(block: Block) -> Floats:
    """Return the mean of a block's channels below about 550 Hz, one value every ``step_for`` frames, in phase."""
    step = step_for(block.rate)
    half = _TAPS_PER_STEP * step // 2 if step > 1 else 0
    count = -(-(block.stop - block.start) // step)
    left = max(0, half - block.before)
    right = max(0, block.before + (count - 1) * step + half + 1 - len(block.samples))
    wave = np.pad(block.mono, (left, right))
    first = block.before + left - half
    needed = wave[first : first + (count - 1) * step + 2 * half + 1]
    return decimated(needed, step, _TAPS_PER_STEP)[half // step : half // step + count]


class LowWaves:
    """The low wave of a recording as its blocks gave it: slices are put together when asked for, never all of it."""

    def __init__(self) -> None:
        self._parts: list[Floats] = []
        self._stops: list[int] = []

    def append(self, part: Floats) -> None:
        """Add what follows."""
        self._parts.append(part)
        self._stops.append(len(self) + len(part))

    def __len__(self) -> int:
        return self._stops[-1] if self._stops else 0

    def __getitem__(self, span: slice) -> Floats:
        start, stop, _ = span.indices(len(self))
        taken = [np.zeros(0, np.float32)]
        for index in range(bisect_right(self._stops, start), len(self._parts)):
            begins = self._stops[index] - len(self._parts[index])
            if begins >= stop:
                break
            taken.append(self._parts[index][max(0, start - begins) : stop - begins])
        return np.concatenate(taken)
