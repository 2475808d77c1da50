"""The lowest octaves of a recording, at a rate that just holds them: shared by what looks for hum and thumps."""

from __future__ import annotations

from bisect import bisect_right
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy.signal import firwin, upfirdn

from umbrick.core.survey.detector import Block

Floats = npt.NDArray[np.float32]

_LOWEST_RATE = 1400
_TAPS_PER_STEP = 8


def step_for(rate: int) -> int:
    """Return how many frames become one of the low wave: the power of two that leaves at least 1.4 kHz."""
    return max(1, 1 << int(np.log2(rate / _LOWEST_RATE)))


@lru_cache(maxsize=8)
def _low_pass(step: int) -> Floats:
    return firwin(_TAPS_PER_STEP * step + 1, 0.8 / step).astype(np.float32) if step > 1 else np.ones(1, np.float32)


def low_wave(block: Block) -> Floats:
    """Return the mean of a block's channels below about 550 Hz, one value every ``step_for`` frames, in phase."""
    step = step_for(block.rate)
    taps = _low_pass(step)
    half = len(taps) // 2
    wave = block.samples.mean(axis=1) if block.samples.shape[1] > 1 else block.samples[:, 0]
    count = -(-(block.stop - block.start) // step)
    left = max(0, half - block.before)
    right = max(0, block.before + (count - 1) * step + half + 1 - len(wave))
    wave = np.pad(wave, (left, right))
    first = block.before + left - half
    return np.asarray(upfirdn(taps, wave[first : first + (count - 1) * step + len(taps)], 1, step), np.float32)[
        half // step * 2 : half // step * 2 + count
    ]


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
