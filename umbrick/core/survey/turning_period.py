"""The turning of a disc: a scratch across it clicks once a turn."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Integers = npt.NDArray[np.int64]

_SHORTEST_SECONDS, _LONGEST_SECONDS = 0.6, 2.4
"""From a disc of 100 turns a minute to one of 25."""

_SLACK_SECONDS, _SLACK = 0.004, 0.003
"""How far from a turn the next click may come: the groove moves inward, and a disc may be off its centre."""

_FEWEST = 4
_FEWEST_PAIRS, _DEVIATIONS = 3.0, 4.5
"""By how many pairs a period must exceed what chance alone gives, and by how many standard deviations of that."""

_MOST_PAIRS = 2_000_000


def turning_period(seconds: Floats) -> float:
    """Return the period at which most of some times come again, 0 if none stands out.

    Parameters
    ----------
    seconds : ndarray, shape (n,)
        Ascending.
    """
    last = np.searchsorted(seconds, seconds + _LONGEST_SECONDS)
    first = np.searchsorted(seconds, seconds + _SHORTEST_SECONDS)
    counts = last - first
    if len(seconds) < _FEWEST or not 0 < counts.sum() <= _MOST_PAIRS:
        return 0.0
    later = np.concatenate([np.arange(a, b) for a, b in zip(first.tolist(), last.tolist(), strict=True)])
    apart = seconds[later] - np.repeat(seconds, counts)
    apart.sort()
    width = _SLACK_SECONDS + _SLACK * apart
    near = np.searchsorted(apart, apart + width, side="right") - np.searchsorted(apart, apart - width)
    best = int(near.argmax())
    by_chance = len(apart) * 2 * width[best] / (_LONGEST_SECONDS - _SHORTEST_SECONDS)
    if near[best] < by_chance + _FEWEST_PAIRS + _DEVIATIONS * np.sqrt(by_chance):
        return 0.0
    inside = np.abs(apart - apart[best]) <= width[best]
    return float(np.median(apart[inside]))


def turns(seconds: Floats, period: float) -> list[Integers]:
    """Return chains of some times, each a period after the one before, as indices; a chain has four or more."""
    slack = _SLACK_SECONDS + _SLACK * period
    taken = np.zeros(len(seconds), np.bool_)
    chains = []
    for index in range(len(seconds)):
        chain = [] if taken[index] else [index]
        while chain:
            due = seconds[chain[-1]] + period
            low, high = np.searchsorted(seconds, (due - slack, due + slack))
            free = np.flatnonzero(~taken[low:high]) + low
            if not len(free):
                break
            chain.append(int(free[np.abs(seconds[free] - due).argmin()]))
        if len(chain) >= _FEWEST:
            taken[chain] = True
            chains.append(np.array(chain, np.int64))
    return chains
