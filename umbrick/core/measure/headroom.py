"""How much the level must come down for rebuilt peaks to fit a fixed-point file."""

from __future__ import annotations

import math

from umbrick.core.units import amplitude_to_db

_STEP_DB = 0.1


def fitting_gain_db(peak: float, ceiling_dbfs: float = 0.0) -> float:
    """Return the level change in dB, in whole tenths and never upwards, that brings a peak under a ceiling.

    Parameters
    ----------
    peak : float
        Highest absolute sample, 0 or more.
    ceiling_dbfs : float
        The level not to be passed.
    """
    excess = amplitude_to_db(peak) - ceiling_dbfs
    return -math.ceil(excess / _STEP_DB - 1e-6) * _STEP_DB if excess > 1e-6 else 0.0
