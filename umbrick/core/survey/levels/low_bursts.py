"""How loud the lowest octaves are from moment to moment, and where that stands out."""

from __future__ import annotations

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from umbrick.core.filters.recursive import band_pass, filtered_both_ways
from umbrick.core.survey.levels.low_wave import Floats, LowWaves

HOP = 2
_TURNED_FRAMES = 15
"""How much of a wave is turned about its ends before it is filtered, in frames of the low wave."""

_PART_SECONDS, _MARGIN_SECONDS = 300.0, 2.0
_AT_ONCE = 2**18


def band_levels(wave: LowWaves, rate: float, band_hz: tuple[float, float], smoothed_seconds: float) -> Floats:
    """Return the level of a band in dB at every ``HOP`` th place of a low wave; hours are gone through in parts."""
    sections = band_pass(*band_hz, rate)
    part, margin = HOP * round(_PART_SECONDS * rate / HOP), HOP * round(_MARGIN_SECONDS * rate / HOP)
    levels = np.empty(-(-len(wave) // HOP), np.float32)
    for start in range(0, len(wave), part):
        first = max(0, start - margin)
        low = filtered_both_ways(sections, wave[first : start + part + margin], _TURNED_FRAMES)
        level = uniform_filter1d(np.square(low), max(1, round(smoothed_seconds * rate)))
        own = level[start - first : start - first + part : HOP]
        levels[start // HOP : start // HOP + len(own)] = 10 * np.log10(np.maximum(own, 1e-12))
    return levels


def peaks(level_db: Floats, apart: int, least_db: float) -> list[int]:
    """Return where the level is highest within ``apart`` to either side; hours are gone through in parts."""
    found: list[int] = []
    for start in range(0, len(level_db), _AT_ONCE):
        first = max(0, start - apart)
        near = level_db[first : start + _AT_ONCE + apart]
        tops = np.flatnonzero((near == maximum_filter1d(near, 2 * apart + 1)) & (near > least_db)) + first
        found += tops[(tops >= start) & (tops < start + _AT_ONCE)].tolist()
    return found


def extent(level_db: Floats, peak: int, longest: int, rise_db: float, fall_to_db: float) -> tuple[int, int]:
    """Return where a burst begins, so far below its peak, and where it has fallen to a level."""
    quiet = np.flatnonzero(level_db[max(0, peak - longest) : peak] < level_db[peak] - rise_db)
    start = max(0, peak - longest) + (int(quiet[-1]) + 1 if len(quiet) else 0)
    quiet = np.flatnonzero(level_db[peak : peak + longest] < fall_to_db)
    return start, peak + (int(quiet[0]) if len(quiet) else min(longest, len(level_db) - peak))
