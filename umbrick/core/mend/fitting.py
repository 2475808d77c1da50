"""Fitting a copy: where near a place it goes on best with what is around."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from umbrick.core.measure.crossings import Direction, nearest_crossing
from umbrick.core.mend.donors import correlated
from umbrick.core.mend.graft import Clip
from umbrick.core.sound.source import Source

_CONTEXT_SECONDS = 0.02
_REACH_SECONDS = 0.02
_MOST_GAIN = 4.0


class Fit(NamedTuple):
    """Where a copy would begin, and the factor that levels it; a negative one turns its wave over."""

    start: int
    factor: float


def best_fit(source: Source, clip: Clip, start: int) -> Fit | None:
    """Return the best place for a clip within 20 ms of a frame, or None if there is too little sound around.

    What is around the clip where it was copied is matched to what is around the place, on both sides at once
    (normalised cross-correlation), so that both joins go on.
    """
    context, reach = round(_CONTEXT_SECONDS * source.rate), round(_REACH_SECONDS * source.rate)
    context = min(context, clip.start, clip.version.frames - clip.stop)
    first = max(context, start - reach)
    last = min(source.frames - clip.frames - context, start + reach)
    if context < 8 or last < first:
        return None
    around = clip.read(-context, clip.frames + context)
    sound = source.read(first - context, last + clip.frames + context).astype(np.float64)[:, list(clip.channels)]
    places = last - first + 1
    sides = ((around[:context], 0), (around[-context:], context + clip.frames))
    products, powers = np.zeros(places), np.zeros(places)
    sums = np.concatenate([[0.0], np.cumsum((sound**2).sum(axis=1))])
    for template, shift in sides:
        products += correlated(sound, template)[shift : shift + places]
        powers += (sums[context:] - sums[:-context])[shift : shift + places]
    own = sum(float((template**2).sum()) for template, _ in sides)
    likeness = products / np.sqrt(np.maximum(powers * own, 1e-24))
    best = int(np.argmax(likeness))
    factor = float(products[best]) / max(own, 1e-12)
    return Fit(first + best, float(np.clip(factor, 1 / _MOST_GAIN, _MOST_GAIN)))


def matching_start(source: Source, clip: Clip, start: float, reach: float) -> int | None:
    """Return the nearest place where a recording crosses zero in the direction in which the clip begins."""
    channel = clip.channels[0]
    edge = clip.read(-1, 1)[:, 0]
    direction = Direction.RISING if edge[1] >= edge[0] else Direction.FALLING
    return nearest_crossing(source, channel, start, reach, direction)
