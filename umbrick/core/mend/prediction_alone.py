"""Where prediction alone is right: clipped sounds that it rebuilds far better than any sparse spectrum does.

Pulses, in which many tones come at once, are no sparse spectrum. And a sound without highs is determined by the samples
that are left.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.mend import prediction, sparse
from umbrick.core.model.bounds import Mask, Wave

TRIED_SHARE = 0.25
"""Up to this share of clipped samples, prediction is given a trial beside the sparse spectrum."""

_LOWER = 0.8
_TRIED_SECONDS = 0.6
_FEWEST = 16
_LEAD_DB = (4.0, 8.0)
_GAIN_DB = (9.0, 12.0)

REPEATED_SHARE = 0.12
"""Up to this share, repeating prediction may find the sound exactly."""

_MOST_SWEEPS = 6
_FASTER_DB = 2.0
_SURE_DB = (45.0, 60.0)


def trust(wave: Wave, clipped: Mask, rate: int, is_cancelled: Callable[[], bool]) -> float:
    """Return how much prediction from the clipped sound should count, from 0 to 1.

    The sound is clipped a little lower still. The samples between the two rails are known: prediction and the sparse
    spectrum are both tried on them.
    """
    start, stop = _most_clipped(clipped, round(_TRIED_SECONDS * rate))
    part, known_bad = wave[start:stop], clipped[start:stop]
    high, low = _rail(part[known_bad & (part > 0)]), -_rail(-part[known_bad & (part < 0)])
    lowered = np.clip(part, _LOWER * low, _LOWER * high)
    damaged = known_bad | (lowered != part)
    held_out = damaged & ~known_bad
    if held_out.sum() < _FEWEST or damaged.all():
        return 0.0
    lost = np.square(lowered - part)[held_out].sum()
    by_tones, by_prediction = (
        10 * np.log10(lost / (np.square(made - part)[held_out].sum() + 1e-20))
        for made in (
            sparse.rebuild(lowered, damaged, rate, is_cancelled=is_cancelled),
            prediction.rebuild(lowered, damaged, is_cancelled=is_cancelled),
        )
    )
    lead = np.interp(by_prediction - by_tones, _LEAD_DB, (0, 1))
    return float(lead * np.interp(by_prediction, _GAIN_DB, (0, 1)))


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

    Only where there is one answer does each pass change far less than the one before.
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
