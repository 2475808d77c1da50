"""What is known of clipped samples: nothing but that the wave passed the rail there."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Wave = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
Integers = npt.NDArray[np.int64]


class Bounds(NamedTuple):
    """The lowest and highest value each sample of a wave may have; both are the sample itself where it is reliable."""

    low: Wave
    high: Wave

    @classmethod
    def of(cls, wave: Wave, clipped: Mask) -> Bounds:
        """Return the bounds of a wave whose ``clipped`` samples stand on a rail on their own side of zero."""
        above, below = clipped & (wave >= 0), clipped & (wave < 0)
        return cls(np.where(below, -np.inf, wave), np.where(above, np.inf, wave))

    def applied(self, wave: Wave) -> Wave:
        """Return the wave with every sample moved into its bounds."""
        return np.clip(wave, self.low, self.high)


def spans_in(mask: Mask) -> tuple[Integers, Integers]:
    """Return where the runs of true values begin and end (half open)."""
    edges = np.diff(mask.astype(np.int8), prepend=0, append=0)
    return np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
