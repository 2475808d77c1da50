"""Donors: stretches of a recording whose surroundings are like those of a place that is to be filled."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import scipy

from umbrick.core.errors import CancelledError
from umbrick.core.measure.vertex import vertex
from umbrick.core.sound.band_limited import shifted
from umbrick.core.sound.decimation import decimated
from umbrick.core.sound.source import Source

Wave = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]

_REACH_SECONDS = 6.0
_CONTEXT_SECONDS = 0.02
_APART_SECONDS = 0.003
_MOST_GAIN = 2.0
_LOOKED_AT = 64
_FAINTEST = 1e-12
_STEPS = 64
"""Parts of a frame that donors are shifted by: so that a number tells where one begins, exactly."""

_LEAST_OFFSET = 0.08
"""A parabola is no better than that: a donor that is the same sound must come out the same."""


_COARSE_RATE = 6000
"""All of a recording is first gone through at about this rate: what is alike is alike in its low octaves too."""

_TAPS_PER_STEP = 8

_PART_SECONDS = 30.0
_KEPT_OF_A_PART, _REFINED = 8, 24


class Donor(NamedTuple):
    """A stretch that could fill a place.

    ``start`` is the frame it begins with, ``offset`` by how much later, in parts of a frame, it would best have been
    taken; ``gain`` how it must be levelled, negative if its polarity is the other; ``likeness`` the normalised
    correlation of both surroundings at once, from 0 to 1.
    """

    start: int
    gain: float
    likeness: float
    offset: float = 0.0

    def laid(self, sound: Wave) -> Wave:
        """Return sound from around it, of shape ``(frames, channels)``, levelled and shifted as it must be."""
        return self.gain * shifted(sound, self.offset)


def donors(
    source: Source, start: int, stop: int, channels: list[int], count: int = 5, damage: Mask | None = None
) -> list[Donor]:
    """Return the best donors for a span within six seconds of it, best first, clearly apart from each other.

    No donor has any of ``damage`` (a mask of the source's frames) in it or in its surroundings.

    Both sides are matched at once by normalised cross-correlation (computed by FFT; J. P. Lewis 1995), so that a
    donor continues what comes before and leads to what comes after.
    """
    reach, context = round(_REACH_SECONDS * source.rate), round(_CONTEXT_SECONDS * source.rate)
    begin, end = max(0, start - reach), min(source.frames, stop + reach)
    sides = _Sides.around(source, start, stop, channels, context)
    sound = source.read(begin, end).astype(np.float64)[:, channels]
    matched = sides.matched(sound, begin)
    if matched is None:
        return []
    if damage is not None:
        harmed = np.concatenate([[0], np.cumsum(damage[begin:end])])
        places = len(matched.likeness)
        matched.likeness[harmed[sides.frames :][:places] > harmed[:places]] = -1.0
    return matched.best(round(_APART_SECONDS * source.rate), count)


def donors_anywhere(
    source: Source,
    start: int,
    stop: int,
    channels: list[int],
    count: int = 5,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> list[Donor]:
    """Return the best donors for a span in all of a recording, best first, clearly apart from each other.

    The recording is gone through in parts, at a low rate; what is most alike there is then matched at the full one.
    CancelledError is raised between two parts if ``is_cancelled`` says so.
    """
    step, context = max(1, source.rate // _COARSE_RATE), round(_CONTEXT_SECONDS * source.rate)
    exact = _Sides.around(source, start, stop, channels, context)
    coarse = exact.slower(step)
    apart = max(1, round(_APART_SECONDS * source.rate / step))
    likely: list[tuple[float, int]] = []
    for begin, end in _parts(source, exact.frames, step):
        if is_cancelled():
            raise CancelledError
        matched = coarse.matched(_slower(source.read(begin, end)[:, channels], step), begin // step)
        if matched is not None:
            likely += [(donor.likeness, donor.start * step) for donor in matched.best(apart, _KEPT_OF_A_PART)]
    found: list[Donor] = []
    for _, near in sorted(likely, reverse=True)[:_REFINED]:
        first = max(0, near - exact.before - 2 * step)
        last = min(source.frames, near - exact.before + exact.frames + 2 * step)
        matched = exact.matched(source.read(first, last).astype(np.float64)[:, channels], first)
        for donor in matched.best(1, 1) if matched else ():
            if all(abs(donor.start - other.start) > round(_APART_SECONDS * source.rate) for other in found):
                found.append(donor)
    return sorted(found, key=lambda donor: -donor.likeness)[:count]


def _parts(source: Source, overlap: int, step: int) -> Iterator[tuple[int, int]]:
    """Yield the parts of a recording, that overlap, and begin where a lower rate has a sample."""
    part = round(_PART_SECONDS * source.rate / step) * step
    for begin in range(0, source.frames, part):
        yield begin, min(source.frames, begin + part + overlap)


class _Matched(NamedTuple):
    """How alike what is around each possible donor is, the first of which begins at ``first``."""

    first: int
    likeness: Wave
    products: Wave
    powers: Wave

    def best(self, apart: int, count: int) -> list[Donor]:
        found: list[Donor] = []
        left = self.likeness.copy()
        for _ in range(min(_LOOKED_AT, len(left))):
            at = int(np.argmax(left))
            if left[at] <= 0 or len(found) == count:
                break
            found.append(Donor(self.first + at, self._gain(at), float(self.likeness[at]), self._offset(at)))
            left[max(0, at - apart) : at + apart] = -1.0
        return found

    def _gain(self, at: int) -> float:
        product, power = float(self.products[at]), max(float(self.powers[at]), _FAINTEST)
        return float(np.clip(abs(product) / power, 1 / _MOST_GAIN, _MOST_GAIN) * np.sign(product))

    def _offset(self, at: int) -> float:
        """Return where, between frames, the likeness is highest: the top of a parabola, in steps that are told."""
        if not 0 < at < len(self.likeness) - 1:
            return 0.0
        before, top, after = self.likeness[at - 1 : at + 2].tolist()
        if min(before, after) < 0:
            return 0.0
        offset = vertex(before, top, after)
        return round(offset * _STEPS) / _STEPS if abs(offset) >= _LEAST_OFFSET else 0.0


class _Sides(NamedTuple):
    """What is on both sides of a place: where it begins, how long it is, and the sound before and after it."""

    start: int
    length: int
    left: Wave
    right: Wave

    @classmethod
    def around(cls, source: Source, start: int, stop: int, channels: list[int], context: int) -> _Sides:
        left = source.read(max(0, start - context), start)
        right = source.read(stop, min(source.frames, stop + context))
        return cls(start, stop - start, *(side.astype(np.float64)[:, channels] for side in (left, right)))

    @property
    def before(self) -> int:
        return len(self.left)

    @property
    def frames(self) -> int:
        """How long the place and both sides are together."""
        return len(self.left) + self.length + len(self.right)

    def slower(self, step: int) -> _Sides:
        """Return the same at a rate that is lower by a factor."""
        return _Sides(
            self.start // step, self.length // step, *(_slower(side, step) for side in (self.left, self.right))
        )

    def matched(self, sound: Wave, begin: int) -> _Matched | None:
        """Return how alike the places of a sound are, which begins at some frame; None if it is too short."""
        count = len(sound) - self.frames + 1
        if count < 1 or not self.before + len(self.right):
            return None
        # Both sides at once: what lies between them counts for nothing.
        between = np.zeros((self.length, sound.shape[1]))
        products = correlated(sound, np.concatenate([self.left, between, self.right]))
        power = np.concatenate([[0.0], np.cumsum(np.einsum("fc,fc->f", sound, sound))])
        powers = power[self.before :][:count] - power[:count]
        powers += power[self.frames :][:count] - power[self.before + self.length :][:count]
        norm = np.sqrt(np.maximum(powers, 0) * ((self.left**2).sum() + (self.right**2).sum()))
        likeness = np.abs(products) / np.maximum(norm, _FAINTEST)
        likeness[norm <= _FAINTEST] = 0.0
        # What is around a donor must not be the place itself.
        own = self.start - begin
        likeness[max(0, own - self.frames + 1) : max(0, own + self.length)] = -1.0
        return _Matched(begin + self.before, likeness, products, powers)


def _slower(sound: npt.NDArray[Any], step: int) -> Wave:
    """Return a sound, of shape ``(frames, channels)``, at a rate that is lower by a factor."""
    columns = [decimated(column.astype(np.float32), step, _TAPS_PER_STEP) for column in sound.T]
    return np.stack(columns, axis=1).astype(np.float64)


def correlated(sound: Wave, template: Wave) -> Wave:
    """Return the sum over channels of the correlation of a template with every place of a sound."""
    return np.asarray(scipy.signal.oaconvolve(sound, template[::-1], "valid", axes=0).sum(axis=1))
