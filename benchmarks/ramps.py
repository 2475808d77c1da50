"""Ramps at the ends of made-up sound, at the rate that it is made at."""

from __future__ import annotations

import numpy as np

RATE = 48000


def ramped(wave, ramp_ms, rate=RATE):
    """Return a stretch of sound with ramps at its ends."""
    ramp = min(round(ramp_ms * rate / 1000), len(wave) // 2)
    if ramp:
        wave = wave.copy()
        rise = (np.arange(ramp) + 0.5) / ramp
        wave[:ramp] *= rise
        wave[len(wave) - ramp :] *= rise[::-1]
    return wave
