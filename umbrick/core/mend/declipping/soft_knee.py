"""Soft knees: what a converter or an amplifier bends already some way below the rail that it cuts off at.

The samples in the knee are known, but too low. Taken for unknown, they come out of linear prediction as they were
before: how much higher, level by level, is the shape of the knee. Below it they come out as they are.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from umbrick.core.mend.declipping import prediction
from umbrick.core.model.bounds import Bounds, Mask, Wave
from umbrick.core.model.robust_spread import robust_spread
from umbrick.core.units import amplitude_to_db, db_to_amplitude

SEEN_SECONDS = 0.18
"""So much sound tells whether there is a knee."""

DEEPEST_DB, MOST_STRETCH = 6.0, 5.0
"""What bends further than that is the rail itself."""

_SHALLOWEST_DB, _STEP_DB, _BIN_DB = 0.5, 0.1, 0.5
_ORDER = 64
_PASSES = 2
"""With rails moved to where the first pass has them the second comes nearer to the truth; more would go too far."""

_FEWEST, _FEWEST_BINS = 8, 4
_LEAST_RISE, _LEAST_ERRORS, _MOST_UNLIKE = 0.05, 4.0, 0.25
"""What makes a knee: this much missing, as a share of the rail, just below it; so many standard errors; and this share
at most of the shape that a straight line does not explain. Just below a hard rail 0.03 is missing at most."""


class Knee(NamedTuple):
    """Where the bend begins, in dB below the rail, and how many times steeper the sound was there than what is left."""

    below_db: float
    stretch: float


def rails_of(wave: Wave, clipped: Mask) -> Wave:
    """Return the height of the rail at each sample, on its own side of zero; infinite on a side that has none.

    Between clipped samples it goes over from one's height to the next's.
    """
    rails = np.full(len(wave), np.inf)
    at = np.arange(len(wave))
    for side in (wave > 0, wave < 0):
        on_rail = np.flatnonzero(clipped & side)
        if len(on_rail):
            rails[side] = np.interp(at[side], on_rail, np.abs(wave[on_rail]))
    return rails


def straightened(wave: Wave, rails: Wave, knee: Knee) -> Wave:
    """Return a wave as it was before it was bent; what lies below the knee comes back unchanged.

    Parameters
    ----------
    wave, rails : ndarray, shape (n,)
        Samples, and the height of the rail at each (:func:`rails_of`).
    knee : Knee
    """
    begins = np.where(np.isfinite(rails), rails * db_to_amplitude(-knee.below_db), np.inf)
    over = np.maximum(np.abs(wave) - begins, 0.0)
    return np.asarray(wave + np.copysign(over * (knee.stretch - 1), wave))


def soft_knee(wave: Wave, clipped: Mask) -> Knee | None:
    """Return the knee below the rails of a short stretch of sound, or None if it is cut off hard or tells too little.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Some tenths of a second.
    clipped : ndarray of bool, shape (n,)
        Samples that stand on a rail.

    Notes
    -----
    Prediction as in :mod:`prediction`. That known samples are foretold to see what bent them is ours.
    """
    rails = rails_of(wave, clipped)
    heights = np.abs(wave) / rails
    looked_at = (heights >= db_to_amplitude(-DEEPEST_DB)) & ~clipped
    if looked_at.sum() < _FEWEST * _FEWEST_BINS or (clipped | looked_at).all():
        return None
    knee = None
    for number in range(_PASSES):
        guess = wave if knee is None else straightened(wave, rails, knee)
        low = np.where(clipped & (wave >= 0), guess, -np.inf)
        high = np.where(clipped & (wave < 0), guess, np.inf)
        unknown = clipped | looked_at
        foretold = prediction.rebuild(guess, unknown, order=_ORDER, sweeps=1, bounds=Bounds(low, high))
        missing = (np.sign(wave) * foretold / rails - heights)[looked_at]
        knee, is_sure = _fitted(heights[looked_at], missing)
        if number == 0 and not is_sure:
            return None
    return knee


def _fitted(heights: Wave, missing: Wave) -> tuple[Knee, bool]:
    """Return the knee that explains best how much is missing at each height, both as shares of the rail, and whether
    it is one."""
    bins = np.floor(20 * np.log10(heights) / _BIN_DB)
    levels, middles, error = [], [], 0.0
    for number in np.unique(bins):
        own = missing[bins == number]
        if len(own) >= _FEWEST:
            levels.append(db_to_amplitude(_BIN_DB * (float(number) + 0.5)))
            middles.append(float(np.median(own)))
            error = robust_spread(own, middles[-1]) / np.sqrt(len(own))
    level, middle = np.array(levels), np.array(middles)
    best = Knee(_SHALLOWEST_DB, 1.0)
    if len(level) < _FEWEST_BINS or amplitude_to_db(levels[-1]) < -2 * _BIN_DB:
        return best, False
    total = float(np.square(middle).sum()) + 1e-20
    least = total
    for below_db in np.arange(_SHALLOWEST_DB, DEEPEST_DB - _BIN_DB, _STEP_DB):
        over = np.maximum(level - db_to_amplitude(-float(below_db)), 0.0)
        slope = float(np.clip(float(over @ middle) / (float(over @ over) + 1e-12), 0.0, MOST_STRETCH - 1))
        unlike = float(np.square(middle - slope * over).sum())
        if unlike < least:
            least, best = unlike, Knee(float(below_db), 1 + slope)
    rise = middles[-1]
    return best, rise >= max(_LEAST_RISE, _LEAST_ERRORS * error) and least <= _MOST_UNLIKE * total
