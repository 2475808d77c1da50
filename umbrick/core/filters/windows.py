"""Windows, and the low-pass made with one."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Wave = npt.NDArray[np.float64]


def hann(frames: int) -> Wave:
    """Return the periodic Hann window (J. von Hann; named by Blackman and Tukey, 1958) of so many frames."""
    return np.asarray(0.5 - 0.5 * np.cos(2 * np.pi * np.arange(frames) / frames))


def low_pass_taps(count: int, cutoff: float) -> Wave:
    """Return a linear-phase low-pass of an odd number of taps, by the window method with a Hamming window.

    Parameters
    ----------
    count : int
        Number of taps, odd.
    cutoff : float
        Where the level is halved, relative to half the rate: between 0 and 1.

    References
    ----------
    A. V. Oppenheim, R. W. Schafer, "Discrete-Time Signal Processing", 1989, section 7.4.
    """
    middle = (count - 1) / 2
    window = 0.54 - 0.46 * np.cos(2 * np.pi * np.arange(count) / (count - 1))
    taps = cutoff * np.sinc(cutoff * (np.arange(count) - middle)) * window
    return np.asarray(taps / taps.sum())
