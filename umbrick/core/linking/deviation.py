"""Which lane it is: by how much each deviates at a place from what the others foretell."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np

from umbrick.core.errors import CancelledError
from umbrick.core.linking.foretelling import Mask, Wave, foretold, foretold_by_one, laid_beside
from umbrick.core.linking.stacked import Stack
from umbrick.core.model.autoregression import modelled
from umbrick.core.sound.decimation import decimated

_BESIDE_SECONDS = 0.4
_SLOW_RATE = 3000
"""What is deep, such as a knock, is looked for at this rate besides: whitened as a whole, a sound has no depth left."""
_TAPS_PER_STEP = 8
_WINDOW_SECONDS = 0.001
_ORDER = 32
_NOISE_SHARE = 1e-6
_TYPICAL = 0.9
"""Beside the place so much of the sound deviates by less than what is taken for typical there."""
_SURE_DB = 3.0
_UNUSUAL, _FAINT, _APART_SECONDS, _AN_END = 0.995, 1e-3, 0.002, 0.05
_SILENT = 1e-3


class Deviation(NamedTuple):
    """A lane, by its number in the stack; ``rise_db`` is how much more it deviates at the place than beside it."""

    lane: int
    channel: int
    rise_db: float


class Ranking(NamedTuple):
    """The lanes, that which deviates most first; ``is_clear`` tells whether it does so clearly more than the next.

    ``span`` is from where to where the first one deviates, in frames of the stack.
    """

    lanes: tuple[Deviation, ...]
    is_clear: bool
    span: tuple[int, int]


def rank(stack: Stack, start: int, stop: int, is_cancelled: Callable[[], bool] = lambda: False) -> Ranking:
    """Rank lanes by how much they deviate at a place of the stack from what the others foretell.

    Every lane is foretold by each of the others alone, where both are whitened; of a lane with a fault none of them
    tells it, and of any other just the one with the fault does not. So what counts for a lane is the middle one of what
    the others tell, and the lower of two middle ones.

    Parameters
    ----------
    stack : Stack
        At least two lanes.
    start, stop : int
        The place, in frames of the stack.
    is_cancelled : callable

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so.
    """
    rate, beside = stack.rate, round(_BESIDE_SECONDS * stack.rate)
    first, last = max(0, start - beside), min(stack.frames, stop + beside)
    sound = stack.read(first, last)
    lanes = [stack.channels_of(number) for number in range(len(stack.lanes))]
    rises = np.full((sound.shape[1], len(lanes)), -np.inf)
    for step in (1, max(1, round(rate / _SLOW_RATE))):
        slower = np.stack([decimated(sound[:, c], step, _TAPS_PER_STEP) for c in range(sound.shape[1])], axis=1)
        inside = np.zeros(len(slower), np.bool_)
        inside[(start - first) // step : -(-(stop - first) // step)] = True
        rises = np.maximum(rises, _rises(slower.astype(np.float64), inside, lanes, rate / step, is_cancelled))
    found = []
    for number, own in enumerate(lanes):
        told = [np.delete(rises[channel], number) for channel in own]
        middle = [float(np.sort(one)[(len(one) - 1) // 2]) for one in told]
        worst = int(np.argmax(middle))
        found.append(Deviation(number, worst, round(middle[worst], 1)))
    found.sort(key=lambda one: -one.rise_db)
    worst = lanes[found[0].lane].start + found[0].channel
    others = [channel for channel in range(sound.shape[1]) if channel not in lanes[found[0].lane]]
    begin, end = _extent(sound.astype(np.float64), worst, others, (start - first, stop - first), rate)
    return Ranking(tuple(found), found[0].rise_db - found[1].rise_db >= _SURE_DB, (first + begin, first + end))


def _rises(sound: Wave, inside: Mask, lanes: Sequence[range], rate: float, is_cancelled: Callable[[], bool]) -> Wave:
    """Return by how much each channel rises over what each lane tells of it, in dB: shape ``(channels, lanes)``."""
    white = [_whitened(sound[:, channel], inside) for channel in range(sound.shape[1])]
    rises = np.zeros((sound.shape[1], len(lanes)))
    for number, own in enumerate(lanes):
        for other, theirs in enumerate(lanes):
            for channel in own if other != number else ():
                if is_cancelled():
                    raise CancelledError
                wave = white[channel]
                told = (foretold_by_one(wave, laid_beside(wave, white[c], ~inside, rate), ~inside) for c in theirs)
                rises[channel, other] = min(_rise_db(wave - one, inside, rate) for one in told)
    return rises


def _extent(sound: Wave, channel: int, others: list[int], place: tuple[int, int], rate: int) -> tuple[int, int]:
    """Return from where to where within a place a channel is not what all others together tell."""
    inside = np.zeros(len(sound), np.bool_)
    inside[slice(*place)] = True
    white = {c: _whitened(sound[:, c], inside) for c in (channel, *others)}
    laid = [laid_beside(white[channel], white[c], ~inside, rate) for c in others]
    error = white[channel] - foretold(white[channel], laid, ~inside)
    width = max(1, round(_WINDOW_SECONDS * rate / 4))
    power = np.convolve(error**2, np.ones(width) / width, mode="same")
    usual = float(np.quantile(power[~inside], _UNUSUAL)) if (~inside).any() else 0.0
    beyond = np.flatnonzero(inside & (power > max(usual, power[inside].max() * _FAINT)))
    if not len(beyond):
        return place
    # A hole stands out at both of its ends; what is merely unusual further off is another matter.
    cuts = np.flatnonzero(np.diff(beyond) > _APART_SECONDS * rate)
    highest = float(power[inside].max())
    runs = [run for run in np.split(beyond, cuts + 1) if power[run].max() >= _AN_END * highest]
    beyond = np.array([runs[0][0], runs[-1][-1]])
    if (hole := _silent(sound[:, channel], inside, rate)) is not None and hole[0] < beyond[1] and hole[1] > beyond[0]:
        beyond = np.array(hole)
    # What linear prediction leaves rings on after the fault, and begins no later than it does.
    return max(place[0], int(beyond[0]) - width), min(place[1], int(beyond[-1]) + 1 + width)


def _silent(wave: Wave, inside: Mask, rate: int) -> tuple[int, int] | None:
    """Return the first and last frame of the longest silence inside, if that is longer than a millisecond."""
    level = float(np.sqrt(np.mean(wave[~inside] ** 2))) if (~inside).any() else 0.0
    quiet = np.concatenate([[False], inside & (np.abs(wave) <= _SILENT * level), [False]])
    edges = np.flatnonzero(np.diff(quiet.astype(np.int8)))
    if not len(edges):
        return None
    starts, stops = edges[::2], edges[1::2]
    longest = int((stops - starts).argmax())
    first, last = int(starts[longest]), int(stops[longest]) - 1
    return (first, last) if last - first > _WINDOW_SECONDS * rate else None


def _whitened(wave: Wave, inside: Mask) -> Wave:
    """Return what linear prediction leaves of a wave: faults stand out of it, and tones do not hide them."""
    beside = np.where(inside, 0.0, wave)
    model = modelled(beside, _ORDER, _NOISE_SHARE)
    return wave if model is None else np.convolve(wave, model.error_filter)[: len(wave)]


def _rise_db(error: Wave, inside: Mask, rate: float) -> float:
    """Return how much higher the highest millisecond inside is than what is typical outside."""
    width = max(1, round(_WINDOW_SECONDS * rate))
    power = np.convolve(error**2, np.ones(width) / width, mode="same")
    typical = float(np.quantile(power[~inside], _TYPICAL)) if (~inside).any() else 0.0
    return 10 * float(np.log10((power[inside].max() + 1e-20) / (typical + 1e-20)))
