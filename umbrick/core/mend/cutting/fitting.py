"""Fitting a copy: from where it should be taken so that it goes on best with what is around its place."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from umbrick.core.measure.crossings import Direction, nearest_crossing
from umbrick.core.mend.filling.donors import correlated
from umbrick.core.mend.filling.graft import Clip
from umbrick.core.sound.source import Source

_CONTEXT_SECONDS = 0.02
_REACH_SECONDS = 0.02
_MOST_GAIN = 4.0


class Fit(NamedTuple):
    """Where a copy would better have been taken from, and the factor that makes it as loud as what is around."""

    start: int
    factor: float


def best_fit(source: Source, clip: Clip, start: int) -> Fit | None:
    """Return from where, within 20 ms, a clip should be taken to go on best at a place.

    The place stays, so that a hole stays covered; what slides is the stretch that is copied. What is around the place
    is matched to what is around the stretch, on both sides at once (normalised cross-correlation), so that both joins
    go on. None if there is too little sound around.
    """
    other, on = clip.version, list(clip.channels)
    reach = round(_REACH_SECONDS * source.rate)
    context = min(round(_CONTEXT_SECONDS * source.rate), start, source.frames - start - clip.frames)
    first, last = max(context, clip.start - reach), min(other.frames - clip.frames - context, clip.start + reach)
    if context < 8 or last < first:
        return None
    stop = start + clip.frames
    left = source.read(start - context, start).astype(np.float64)[:, on]
    right = source.read(stop, stop + context).astype(np.float64)[:, on]
    sound = other.read(first - context, last + clip.frames + context).astype(np.float64)[:, on]
    places = last - first + 1
    products, powers = np.zeros(places), np.zeros(places)
    sums = np.concatenate([[0.0], np.cumsum((sound**2).sum(axis=1))])
    for template, shift in ((left, 0), (right, context + clip.frames)):
        products += correlated(sound, template)[shift : shift + places]
        powers += (sums[context:] - sums[:-context])[shift : shift + places]
    own = float((left**2).sum() + (right**2).sum())
    best = int(np.argmax(products / np.sqrt(np.maximum(powers * own, 1e-24))))
    # As loud as what is around, also where the waves are not alike.
    factor = float(np.sqrt(own / max(float(powers[best]), 1e-12)))
    return Fit(first + best, float(np.clip(factor, 1 / _MOST_GAIN, _MOST_GAIN)))


def matching_start(source: Source, clip: Clip, start: float, reach: float) -> int | None:
    """Return the nearest place where a recording crosses zero in the direction in which the clip begins."""
    channel = clip.channels[0]
    edge = clip.read(-1, 1)[:, 0]
    direction = Direction.RISING if edge[1] >= edge[0] else Direction.FALLING
    return nearest_crossing(source, channel, start, reach, direction)
