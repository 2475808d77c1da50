"""Where exactly a level changes: up to where a sound is likelier before the change, and from where after it."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

Levels = npt.NDArray[np.float64]

_NEIGHBOURS = 8
_FARTHER_THAN_DB = 1.0
"""Distances below the scatter of levels themselves tell nothing."""


class _Look(NamedTuple):
    """One row in how many it takes; in shares of the reach, how far it goes, and how near what it learns from comes;
    and how many rows' likelihoods that of a jump counts for."""

    every: int
    within: float
    near: float
    jump_weight: float


_LOOKS = (_Look(4, 1.0, 0.35, 10.0), _Look(1, 0.5, 0.125, 0.0))
"""The first has to choose among places, the second just to place the edge. A jump is no sharp place: the sound about it
has edges of its own."""

_LEARNED = 3
_JUMP_APART, _JUMP_ROWS = 1, 3
"""A jump is from the mean of so many rows, which end so many before a place, to that of as many after it: farther than
a fade from one level to the other takes."""


def change_point(levels_db: npt.NDArray[Any], at: int, change_db: float, reach: int) -> int:
    """Return the first row after a change of level, looked for within ``reach`` of a place, and then around there.

    What belongs to either side is learned from three times the reach of both. As the change is one of level alone,
    what is heard on one side is known of the other too. Levels in several bands tell pauses, tails and held notes
    apart; the level of each is steadier than that of all. And a jump by that change in all bands at once is unlike the
    jumps that the sound makes by itself: an onset brings some bands more than others.

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
    first = max(0, at - (_LEARNED + 1) * reach)
    near_db = levels_db[first : at + (_LEARNED + 1) * reach].astype(np.float64)
    place = at - first
    for look in _LOOKS:
        place = look.every * _likeliest(near_db[:: look.every], place // look.every, change_db, reach, look)
    return first + min(place, len(near_db) - 1)


def _likeliest(levels_db: Levels, at: int, change_db: float, reach: int, look: _Look) -> int:
    """Return the place up to which all is likelier before the change, learning from near to far."""
    within, near, far = (round(share * reach / look.every) for share in (look.within, look.near, _LEARNED))
    last, first = len(levels_db) - 1, max(0, at - within)
    before = slice(max(0, at - far), max(1, at - near))
    after = slice(min(at + near, last), at + far)
    here = slice(first, at + within)
    known_before = np.concatenate([levels_db[before], levels_db[after] - change_db])
    known_after = np.concatenate([levels_db[after], levels_db[before] + change_db])
    gains = _strangeness(levels_db[here], known_after) - _strangeness(levels_db[here], known_before)
    likelier = np.cumsum(gains)
    if look.jump_weight:
        jumps_db = _jumps(levels_db)
        places = np.minimum(np.arange(first, first + len(likelier)) + 1, last)
        known = np.concatenate([jumps_db[before], jumps_db[after]])
        jumps_db = jumps_db[places]
        likelier += look.jump_weight * (_strangeness(jumps_db, known) - _strangeness(jumps_db - change_db, known))
    return min(first + int(np.argmax(likelier)) + 1, last)


def _jumps(levels_db: Levels) -> Levels:
    """Return by how much the levels after each row differ from those before it; those at the ends stay as they are."""
    padding = _JUMP_APART + _JUMP_ROWS
    padded = np.pad(levels_db, ((padding, padding), (0, 0)), mode="edge")
    means = np.lib.stride_tricks.sliding_window_view(padded, _JUMP_ROWS, axis=0).mean(axis=-1)
    count = len(levels_db)
    return means[padding + _JUMP_APART : padding + _JUMP_APART + count] - means[:count]


def _strangeness(levels_db: Levels, known_db: Levels) -> Levels:
    """Return how far each row is from what is known, as a logarithm: minus its log likelihood, but for a factor."""
    from scipy.spatial import KDTree  # needed where a level may step only, and slow to load

    distances, _ = KDTree(known_db).query(levels_db, k=range(1, min(_NEIGHBOURS, len(known_db)) + 1))
    return np.asarray(np.log(distances.mean(axis=1) + _FARTHER_THAN_DB))
