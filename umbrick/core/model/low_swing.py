"""A slow swing without a click, such as a knock on a stand leaves: what the lowest octaves have too much of."""

from __future__ import annotations

import numpy as np
import scipy

from umbrick.core.model.bounds import Wave
from umbrick.core.model.interpolation import interpolated

CONTEXT_SECONDS = 1.5
"""Sound on either side that tells what lies under it."""

_LOW_RATE = 260
_ORDER, _SWEEPS = 24, 3
_FEWEST_BESIDE = 30
_FADE_SECONDS = 0.02


def low_swing(wave: Wave, start: int, stop: int, rate: int) -> Wave | None:
    """Return what a place has below some 110 Hz beyond what the sound on both sides lets expect; None where there is
    too little of that.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    start, stop : int
        The place.
    rate : int

    Returns
    -------
    ndarray, shape (stop − start,)
        What to subtract; it begins and ends in nothing.

    References
    ----------
    The lowest octaves alone are interpolated, as an autoregressive process: A. J. E. M. Janssen, R. N. J. Veldhuis,
    L. B. Vries, 1986.
    """
    step = max(1, rate // _LOW_RATE)
    first = max(0, start - round(CONTEXT_SECONDS * rate))
    first = start - (start - first) // step * step
    low = scipy.signal.resample_poly(wave[first : stop + round(CONTEXT_SECONDS * rate)], 1, step)
    begin, end = (start - first) // step, -(-(stop - first) // step)
    if begin < _FEWEST_BESIDE or len(low) - end < _FEWEST_BESIDE:
        return None
    made, model = interpolated(low, begin, end, _ORDER, _SWEEPS)
    if model is None:
        return None
    beyond = np.zeros(len(low))
    beyond[begin:end] = low[begin:end] - made
    swing = np.asarray(scipy.signal.resample_poly(beyond, step, 1)[start - first : stop - first])
    fade = min(round(_FADE_SECONDS * rate), len(swing) // 2)
    ramp = np.sin(np.linspace(0, np.pi / 2, fade, endpoint=False)) ** 2
    swing[:fade] *= ramp
    swing[len(swing) - fade :] *= ramp[::-1]
    return swing
