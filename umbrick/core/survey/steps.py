"""Whether a wave moves in steps, as a chip's pulses do."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

_STEPPED_SHARE = 0.5


def is_stepped(wave: npt.NDArray[np.float32]) -> bool:
    """Whether a wave mostly rests on its values: recorded sound hardly ever does."""
    return len(wave) > 1 and bool(np.mean(wave[1:] == wave[:-1]) > _STEPPED_SHARE)
