"""Frequency along a height: linear, logarithmic or mel, and the part of it that is shown."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum

import numpy as np
import numpy.typing as npt

from umbrick.core.view.ticks import Tick

Wave = npt.NDArray[np.float64]

_LEAST_HZ = 20.0
"""Where a logarithmic scale begins."""

_NARROWEST = 1 / 200
_NOTES = ("C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B")


class Spacing(Enum):
    """How frequencies are spaced.

    Mel is that of D. O'Shaughnessy, "Speech Communication", 1987.
    """

    LINEAR = "linear"
    LOGARITHMIC = "logarithmic"
    MEL = "mel"


@dataclass(frozen=True)
class FrequencyScale:
    """From 0 to ``top_hz``, of which the part from ``low`` to ``high`` is shown, shares of the whole height."""

    spacing: Spacing
    top_hz: float
    low: float = 0.0
    high: float = 1.0

    def share_of(self, hz: npt.ArrayLike) -> Wave:
        """Return how far up in what is shown frequencies lie, 0 at its lower edge and 1 at its upper one."""
        whole = self._bent(np.asarray(hz, np.float64)) / self._bent(np.float64(self.top_hz))
        return np.asarray((whole - self.low) / (self.high - self.low))

    def hz_at(self, share: npt.ArrayLike) -> Wave:
        """Return the frequency at a share of what is shown."""
        whole = self.low + np.asarray(share, np.float64) * (self.high - self.low)
        return np.asarray(self._straight(whole * self._bent(np.float64(self.top_hz))))

    def zoomed(self, factor: float, share: float) -> FrequencyScale:
        """Return the scale with so many times as much shown, about a share of the height."""
        length = min(1.0, max(_NARROWEST, (self.high - self.low) * factor))
        anchor = self.low + share * (self.high - self.low)
        return replace(self, low=0.0, high=1.0)._placed(anchor - share * length, length)

    def scrolled(self, share: float) -> FrequencyScale:
        """Return the scale moved up by a share of what is shown."""
        length = self.high - self.low
        return self._placed(self.low + share * length, length)

    def _placed(self, low: float, length: float) -> FrequencyScale:
        low = min(max(0.0, low), 1 - length)
        return replace(self, low=low, high=low + length)

    def _bent(self, hz: Wave | np.float64) -> Wave:
        if self.spacing is Spacing.LINEAR:
            return np.asarray(hz)
        if self.spacing is Spacing.MEL:
            return np.asarray(np.log1p(hz / 700.0))
        # Straight below the least, so that 0 Hz has a place.
        return np.asarray(np.log1p(hz / _LEAST_HZ))

    def _straight(self, bent: Wave) -> Wave:
        if self.spacing is Spacing.LINEAR:
            return bent
        return np.asarray(np.expm1(bent) * (700.0 if self.spacing is Spacing.MEL else _LEAST_HZ))

    def ticks(self, height: float, spacing: float = 34.0) -> list[Tick]:
        """Return round frequencies to be marked along a height in pixels, each with its share and its text."""
        steps = [number * 10**power for power in range(1, 5) for number in (1.0, 2.0, 5.0)]
        if self.spacing is Spacing.LINEAR or self.high - self.low < 0.2:
            low, high = (float(hz) for hz in self.hz_at([0.0, 1.0]))
            step = next((step for step in steps if step * height / max(high - low, 1e-9) >= spacing), steps[-1])
            steps = (np.arange(np.ceil(low / step), np.floor(high / step) + 1) * step).tolist()
        else:
            # Round numbers first: where there is little room, 1k and not 700.
            steps.sort(key=lambda hz: (f"{hz:g}"[0] != "1", -hz))
        ticks: list[Tick] = []
        for hz in steps:
            share = float(self.share_of(hz))
            is_apart = all(abs(share - tick.at) * height >= spacing for tick in ticks)
            if 0.02 <= share <= 0.98 and is_apart:
                ticks.append(Tick(share, f"{hz / 1000:g}k" if hz >= 1000 else f"{hz:g}"))
        return sorted(ticks)


def note_at(hz: float) -> str:
    """Return the nearest note of equal temperament at A4 = 440 Hz and how far off it is, such as ``A4 +12 ct``."""
    if hz < _LEAST_HZ:
        return ""
    number = 69 + 12 * np.log2(hz / 440.0)
    nearest = round(float(number))
    cents = round(100 * (float(number) - nearest))
    return f"{_NOTES[nearest % 12]}{nearest // 12 - 1} {'−' if cents < 0 else '+'}{abs(cents)} ct"
