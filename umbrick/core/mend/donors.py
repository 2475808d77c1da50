"""Donors: stretches of a recording whose surroundings are like those of a place that is to be filled."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.signal import fftconvolve

from umbrick.core.sound.source import Source

Wave = npt.NDArray[np.float64]

_REACH_SECONDS = 6.0
_CONTEXT_SECONDS = 0.02
_APART_SECONDS = 0.003
_MOST_GAIN = 2.0
_LOOKED_AT = 64


class Donor(NamedTuple):
    """A stretch that could fill a place: where it begins, how it must be levelled, and how alike what is around it is.

    ``likeness`` is the normalised correlation of both surroundings at once, from −1 to 1.
    """

    start: int
    gain: float
    likeness: float


def donors(
    source: Source,
    start: int,
    stop: int,
    channels: list[int],
    count: int = 5,
    damage: npt.NDArray[np.bool_] | None = None,
) -> list[Donor]:
    """Return the best donors for a span within six seconds of it, best first, clearly apart from each other.

    No donor has any of ``damage`` (a mask of the source's frames) in it or in its surroundings.

    Both sides are matched at once by normalised cross-correlation (computed by FFT; J. P. Lewis 1995), so that a
    donor continues what comes before and leads to what comes after.
    """
    reach, context = round(_REACH_SECONDS * source.rate), round(_CONTEXT_SECONDS * source.rate)
    begin, end = max(0, start - reach), min(source.frames, stop + reach)
    before, after = min(context, start - begin), min(context, end - stop)
    length = stop - start
    sound = source.read(begin, end).astype(np.float64)[:, channels]
    if len(sound) < 2 * (before + length + after) or before + after == 0:
        return []
    offset = start - begin
    left, right = sound[offset - before : offset], sound[offset + length : offset + length + after]
    # Entry i: a donor that begins at frame i + before of the stretch.
    places = len(sound) - before - length - after + 1
    products = np.zeros(places)
    powers = np.zeros(places)
    power = np.concatenate([[0.0], np.cumsum((sound**2).sum(axis=1))])
    for template, shift in ((left, 0), (right, before + length)):
        if len(template):
            products += correlated(sound, template)[shift : shift + places]
            powers += (power[len(template) :] - power[: -len(template)])[shift : shift + places]
    norm = np.sqrt(np.maximum(powers, 0) * ((left**2).sum() + (right**2).sum()))
    likeness = np.where(norm > 1e-12, products / np.maximum(norm, 1e-12), 0.0)
    at = np.arange(places) + before
    # What is around a donor must not be the place itself.
    likeness[(at - before < offset + length) & (at + length + after > offset)] = -1.0
    if damage is not None:
        harmed = np.concatenate([[0], np.cumsum(damage[begin:end])])
        likeness[harmed[before + length + after :][:places] > harmed[:places]] = -1.0
    return _apart(likeness, products, powers, begin + before, round(_APART_SECONDS * source.rate), count)


def _apart(likeness: Wave, products: Wave, powers: Wave, first: int, apart: int, count: int) -> list[Donor]:
    found: list[Donor] = []
    left = likeness.copy()
    for _ in range(min(_LOOKED_AT, len(left))):
        best = int(np.argmax(left))
        if left[best] <= 0 or len(found) == count:
            break
        gain = float(np.clip(products[best] / max(powers[best], 1e-12), 1 / _MOST_GAIN, _MOST_GAIN))
        found.append(Donor(first + best, gain, float(likeness[best])))
        left[max(0, best - apart) : best + apart] = -1.0
    return found


def correlated(sound: Wave, template: Wave) -> Wave:
    """Return the sum over channels of the correlation of a template with every place of a sound."""
    return np.asarray(fftconvolve(sound, template[::-1], "valid", axes=0).sum(axis=1))
