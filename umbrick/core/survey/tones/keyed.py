"""Keyed tones: one sine whose frequency or phase is switched, as modems, chirps and calls send it.

Its level stays the same all along, to a degree that recorded sound never does; so what looks like a break in it, or
comes again, says nothing of damage.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.fft import fft, ifft

_END_SECONDS = 0.001
_MOST_SPREAD = 0.03


def is_keyed(wave: npt.NDArray[np.floating], rate: int) -> bool:
    """Whether the envelope of a stretch is the same all along.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    rate : int

    References
    ----------
    The envelope is that of the analytic signal (D. Gabor, 1946).
    """
    ends = max(1, round(_END_SECONDS * rate))
    if len(wave) < 4 * ends:
        return False
    spectrum = fft(wave.astype(np.float64))
    # Loading a whole package for signals takes longer than a short survey.
    spectrum[len(wave) // 2 + 1 :] = 0
    envelope = np.abs(ifft(spectrum))[ends:-ends]
    return bool(envelope.std() < _MOST_SPREAD * envelope.mean())
