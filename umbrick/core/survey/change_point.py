"""Where exactly a level changes: up to where a sound is likelier before the change, and from where after it."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.spatial import KDTree

_NEIGHBOURS = 8
_FARTHER_THAN_DB = 1.0
"""Distances below the scatter of levels themselves tell nothing."""

_LOOKS = ((4, 1.0, 0.35), (1, 0.5, 0.125))
"""One row in how many a look takes; and in shares of the reach, how far it goes and how near what it learns from comes.
"""

_LEARNED = 3


def change_point(levels_db: npt.NDArray[Any], at: int, change_db: float, reach: int) -> int:
    """Return the first row after a change of level, looked for within ``reach`` of a place, and then around there.

    What belongs to either side is learned from three times the reach of both. As the change is one of level alone,
    what is heard on one side is known of the other too. Levels in several bands tell pauses, tails and held notes
    apart; the level of each is steadier than that of all.

    Parameters
    ----------
    levels_db : array of float, shape ``(times, bands)``
    at : int
        About where it is, from 1 to the last row.
    change_db : float
        By how much all is louder after it.
    reach : int
        Rows, at least 8.

    References
    ----------
    E. S. Page, "Continuous inspection schemes", 1954 (the cumulative sum of log likelihood ratios); D. O. Loftsgaarden
    and C. P. Quesenberry, "A nonparametric estimate of a multivariate density function", 1965 (likelihoods from the
    distance of the nearest neighbours).
    """
    for every, *shares in _LOOKS:
        within, near, far = (round(share * reach / every) for share in (*shares, _LEARNED))
        at = every * _likeliest(levels_db[::every], at // every, change_db, within, near, far)
    return min(at, len(levels_db) - 1)


def _likeliest(levels_db: npt.NDArray[Any], at: int, change_db: float, reach: int, near: int, far: int) -> int:
    """Return the place within reach up to which all is likelier before the change, learning from near to far."""
    last, first = len(levels_db) - 1, max(0, at - reach)
    before = levels_db[max(0, at - far) : max(1, at - near)].astype(np.float64)
    after = levels_db[min(at + near, last) : at + far].astype(np.float64)
    here = levels_db[first : at + reach].astype(np.float64)
    strange_before = _strangeness(here, np.concatenate([before, after - change_db]))
    strange_after = _strangeness(here, np.concatenate([after, before + change_db]))
    return min(first + int(np.argmax(np.cumsum(strange_after - strange_before))) + 1, last)


def _strangeness(levels_db: npt.NDArray[np.float64], known_db: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return how far each row is from what is known, as a logarithm: minus its log likelihood, but for a factor."""
    distances, _ = KDTree(known_db).query(levels_db, k=range(1, min(_NEIGHBOURS, len(known_db)) + 1))
    return np.asarray(np.log(distances.mean(axis=1) + _FARTHER_THAN_DB))
