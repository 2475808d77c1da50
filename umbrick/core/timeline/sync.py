"""Where the sound of a version comes earlier or later than it did in the original."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from umbrick.core.timeline.runs import NO_ORIGIN
from umbrick.core.timeline.version import Version


class OffSync(NamedTuple):
    """A span of a version whose sound comes ``shift`` frames later than in the original (earlier if negative)."""

    start: int
    stop: int
    shift: int


def off_sync(version: Version) -> list[OffSync]:
    """Return the spans that are out of sync with the original, in order; what was inserted goes with what follows."""
    present = np.flatnonzero(version.origins != NO_ORIGIN)
    shifts = version.bounds[:-1][present] - version.origins[present]
    spans: list[OffSync] = []
    reached = 0
    for row, shift in zip(present.tolist(), shifts.tolist(), strict=True):
        stop = int(version.bounds[row + 1])
        if shift and spans and spans[-1].shift == shift and spans[-1].stop == reached:
            spans[-1] = spans[-1]._replace(stop=stop)
        elif shift:
            spans.append(OffSync(reached, stop, shift))
        reached = stop
    return spans
