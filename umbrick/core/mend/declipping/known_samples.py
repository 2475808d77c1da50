"""A trial on samples that are known, before declipping: what suits this sound, and how far it is to be believed.

Pulses, in which many tones come at once, are no sparse spectrum. And a sound without highs is determined by the samples
that are left.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from umbrick.core.mend.declipping import prediction, sparse
from umbrick.core.model.bounds import Mask, Wave

TRIED_SHARE = 0.12
"""Up to this share of clipped samples a trial says something of them, and repeating prediction may find the sound
exactly. Where more is clipped, no trial has ever overruled the rest."""

_BELIEVED_SHARE = 0.08
"""Up to this share, what the trial says of heights holds for the clipped samples too."""

_LOWEST, _HIGHEST = 0.8, 0.97
"""How low the rails may be put for a trial, as a share of what they are, and how low they are put at least."""

_TRIED_SECONDS = 0.35
_FEWEST = 16
_LEAD_DB = (4.0, 8.0)
_GAIN_DB = (9.0, 12.0)

_BELIEVED_FROM, _UNBELIEVED = 0.9, 2.0
"""Heights that come out right but for a tenth are believed; what is missing more counts twice: the trial's peaks are
lower than the clipped ones."""

_MOST_SWEEPS = 6
_FASTER_DB = 2.0
_SURE_DB = (45.0, 60.0)


class Trial(NamedTuple):
    """How much prediction from the clipped sound should count, and how much of their height over the rail rebuilt
    samples may have, both from 0 to 1; and whether prediction foretells this sound well at all."""

    trust: float
    height: float
    foretells: bool


def trial(wave: Wave, clipped: Mask, share: float, rate: int, is_cancelled: Callable[[], bool]) -> Trial:
    """Return what prediction and the sparse spectrum make of samples that are known.

    The sound is clipped a little lower still, by no more than makes it about as hard once again, and both are tried on
    the samples between the two rails. Where they rise in the wrong places, as among a drum's noise, less of their
    height is nearer to the truth (least squares).
    """
    start, stop = _most_clipped(clipped, round(_TRIED_SECONDS * rate))
    part, known_bad = wave[start:stop], clipped[start:stop]
    high, low = _rail(part[known_bad & (part > 0)]), -_rail(-part[known_bad & (part < 0)])
    lower = _lower(np.maximum(part / high, part / low)[~known_bad], int(known_bad.sum()))
    lowered = np.clip(part, lower * low, lower * high)
    damaged = known_bad | (lowered != part)
    held_out = damaged & ~known_bad
    if held_out.sum() < _FEWEST or damaged.all():
        return Trial(0.0, 1.0, True)
    missing = (part - lowered)[held_out]
    tones, predicted = (
        (made - lowered)[held_out]
        for made in (
            sparse.rebuild(lowered, damaged, rate, is_cancelled=is_cancelled),
            prediction.rebuild(lowered, damaged, is_cancelled=is_cancelled),
        )
    )
    by_tones, by_prediction = (
        10 * np.log10(np.square(missing).sum() / (np.square(made - missing).sum() + 1e-20))
        for made in (tones, predicted)
    )
    lead = np.interp(by_prediction - by_tones, _LEAD_DB, (0, 1))
    # None of these samples reaches the upper rail, however high it is thought to be.
    thought = np.clip(lowered[held_out] + (tones + predicted) / 2, low, high) - lowered[held_out]
    right = float(missing @ thought) / (float(thought @ thought) + 1e-20)
    height = 1 - _UNBELIEVED * max(0.0, _BELIEVED_FROM - right) if share <= _BELIEVED_SHARE else 1.0
    trust = float(lead * np.interp(by_prediction, _GAIN_DB, (0, 1)))
    return Trial(trust, float(np.clip(height, 0, 1)), bool(by_prediction >= _GAIN_DB[0]))


def _lower(heights: Wave, count: int) -> float:
    """Return how much lower the rails must be, as a share, that about as many samples more are clipped."""
    count = max(_FEWEST, count)
    if count >= len(heights):
        return _LOWEST
    return float(np.clip(np.partition(heights, len(heights) - count)[len(heights) - count], _LOWEST, _HIGHEST))


def _rail(heights: Wave) -> float:
    """Return the lowest of clipped samples' heights; no limit if there are none."""
    return float(heights.min()) if len(heights) else np.inf


def _most_clipped(clipped: Mask, length: int) -> tuple[int, int]:
    """Return the stretch of some length that holds the most clipped samples."""
    if length >= len(clipped):
        return 0, len(clipped)
    counts = np.concatenate([[0], np.cumsum(clipped)])
    start = int(np.argmax(counts[length:] - counts[:-length]))
    return start, start + length


def repeated(
    wave: Wave, clipped: Mask, start: Wave, refined: Wave, is_cancelled: Callable[[], bool]
) -> tuple[Wave, float]:
    """Return what prediction comes to, and from 0 to 1 how sure that is.

    Only where there is one answer does each pass change far less than the one before. Of noise, which nothing
    foretells, it is a wrong one.
    """
    settled, before, settling = refined, start, -np.inf
    for _ in range(_MOST_SWEEPS):
        change = float(np.square(settled - before).sum())
        rebuilt = float(np.square(settled - wave).sum())
        smaller = 10 * np.log10((rebuilt + 1e-30) / (change + 1e-30))
        if smaller < settling + _FASTER_DB:
            break
        settling = smaller
        before = settled
        settled = prediction.rebuild(wave, clipped, start=settled, sweeps=1, to_ends=True, is_cancelled=is_cancelled)
    return settled, float(np.interp(settling, _SURE_DB, (0, 1)))
