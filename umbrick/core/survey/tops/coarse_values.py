"""The few values that a coder of eight bits leaves: far apart, and in telephony the further the louder."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

_MOST_VALUES = 256
_FIRST_LOOK = 4096


class CoarseValues:
    """Collects the different samples of one channel for as long as there are no more than eight bits tell apart.

    A sound as rounded has tops and slow places that are flat for a few samples, which nothing has cut off or held.
    """

    def __init__(self) -> None:
        self._values: npt.NDArray[np.float32] | None = np.zeros(0, np.float32)

    @property
    def are_few(self) -> bool:
        """Whether so far there are no more values than eight bits tell apart."""
        return self._values is not None

    def feed(self, wave: npt.NDArray[np.float32]) -> None:
        """Collect the samples of a part."""
        # Nearly all sound shows at once that it has more.
        for part in (wave[:_FIRST_LOOK], wave):
            if self._values is None:
                return
            values = np.union1d(self._values, part)
            self._values = values if len(values) <= _MOST_VALUES else None

    def step_at(self, levels: npt.NDArray[Any]) -> npt.NDArray[np.float32]:
        """Return how far the values next to given ones are apart, in amplitude; 0 if the values are not coarse."""
        if self._values is None or len(self._values) < 2:
            return np.zeros(np.shape(levels), np.float32)
        steps = np.pad(np.diff(self._values), 1)
        at = np.minimum(np.searchsorted(self._values, levels), len(self._values) - 1)
        return np.asarray(np.maximum(steps[at], steps[at + 1]), np.float32)
