"""Whether times lie on the beats of one time: what an arranger made does, what breaks by itself does not."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt


def off_beat(frames: npt.NDArray[np.float64], beat: float) -> npt.NDArray[np.float64]:
    """Return how far from a whole number of beats each time is, in beats."""
    return np.asarray(np.abs(frames / beat - np.round(frames / beat)))
