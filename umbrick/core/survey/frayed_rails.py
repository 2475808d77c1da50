"""Frayed rails: flat tops that lossy coding or resampling has roughened.

The tops are no longer flat, but they are still crowded at one level with nothing above: a natural wave's tops thin
out towards its highest, a clipped one's end in a crowd. A steady tone is crowded too, yet each of its tops turns
like a parabola; coding noise on a cut-off top does not.
"""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.flat_tops import Floats, Integers, Tops

TOLERANCE = 0.02
"""How far below its slot's highest sample a frayed top reaches, as a share of it."""

_STRETCH_SECONDS = 4.0
_LOWEST_LEVEL = 0.2
_FEWEST_TOPS = 30
_HALF_BAND = 0.03
_CROWD_RATIO = 4.0
_ABOVE_SHARE = 0.25
_UNTURNED_SHARE = 0.04
_UNTURNED_CUT = 1.4
_CLEARLY_UNTURNED_SHARE = 0.1
_NATURAL_SPREAD = 0.015
"""Half the tops of clean sound near its highest lie further than this from their median level, as a share of it."""

_FEW_LONG = 4.0
_CROWD_OF_SHORT_TOPS = 250


def frayed_rails(tops: Tops, rate: int) -> list[tuple[Tops, float]]:
    """Return the tops on each frayed rail, stretch by stretch, each with its evidence in bits.

    Parameters
    ----------
    tops : Tops
        In order of time, found with a tolerance of ``TOLERANCE`` of the slot's level.
    rate : int
        Frames a second. Rails are sought in stretches of four seconds.
    """
    if not len(tops.start):
        return []
    stretch = tops.start // round(_STRETCH_SECONDS * rate)
    rails = []
    for part in np.split(np.arange(len(stretch)), np.flatnonzero(np.diff(stretch)) + 1):
        found = _crowd(tops.level[part], tops.length[part], tops.cut[part])
        if found is not None:
            members, bits = found
            rails.append((tops.where(part[members]), bits))
    return rails


def _crowd(level: Floats, length: Integers, cut: Floats) -> tuple[Integers, float] | None:
    """Return the indices of tops crowded at the highest common level, and the evidence; None if there is no crowd."""
    if len(level) < _FEWEST_TOPS or level.max() < _LOWEST_LEVEL:
        return None
    heights = np.sort(level)
    rails = heights[-1] * np.geomspace(1.0, 0.75, 30)

    def below_share(share: float) -> Integers:
        """Return how many tops lie below a share of each rail tried."""
        return np.searchsorted(heights, rails * share)

    crowds = below_share(1 + _HALF_BAND) - below_share(1 - _HALF_BAND)
    beneath = below_share(1 - 2 * _HALF_BAND) - below_share(1 - 4 * _HALF_BAND)
    above = len(heights) - below_share(1 + 2 * _HALF_BAND)
    ratios = crowds / (beneath + 1)
    possible = (crowds >= _FEWEST_TOPS) & (above <= _ABOVE_SHARE * crowds) & (ratios >= _CROWD_RATIO)
    if not possible.any():
        return None
    best = int(np.argmax(np.where(possible, crowds, 0)))
    rail, ratio, crowd = float(rails[best]), float(ratios[best]), int(crowds[best])
    members = np.flatnonzero(np.abs(level / rail - 1) <= 2 * _HALF_BAND)
    if np.mean(cut[members] > _UNTURNED_CUT) < _UNTURNED_SHARE or _is_regular(length[members], cut[members], crowd):
        return None
    # 160 tops in four seconds, five times as many as just below, are as likely clipped as limited on purpose.
    bits = 10 + 4 * np.log2(crowd / 160) + 2 * np.log2(ratio / 5) + _tightness(level[members], cut[members])
    return members, float(min(30.0, bits))


def _tightness(level: Floats, cut: Floats) -> float:
    """Return the evidence, in bits, in tops lying closer together than natural ones spread within the band.

    A limiter lines tops up too, but lets them turn; it is not counted as clipping for that.
    """
    if np.mean(cut > _UNTURNED_CUT) < _CLEARLY_UNTURNED_SHARE:
        return 0.0
    spread = float(np.median(np.abs(level / np.median(level) - 1)))
    return float(np.clip(0.05 * len(level) * np.log2(_NATURAL_SPREAD / max(spread, 1e-5)), 0.0, 12.0))


def _is_regular(length: Integers, cut: Floats, crowd: int) -> bool:
    """Whether the tops resemble each other as those of a tone do, or are too short and too few to tell.

    Drum loops that were pressed against a ceiling when they were made have short tops in small crowds.
    """
    low, middle, high = np.percentile(length, (10, 50, 90))
    quarter, three_quarters = np.percentile(np.log2(np.maximum(cut, 0.01)), (25, 75))
    is_short = middle < 3 and (high < _FEW_LONG or crowd < _CROWD_OF_SHORT_TOPS)
    return bool(is_short or high - low <= 1 or three_quarters - quarter < 0.35)
