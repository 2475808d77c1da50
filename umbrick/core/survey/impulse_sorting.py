"""What kind of damage an impulse is: a click, a break in the wave, or a click of the mouth.

A wrong sample or a tick lies *on* the sound: what linear prediction leaves of it is the filter's answer to a few
samples, and it may be higher than the sound itself. At a break the wave goes on from another place: what is left is
the filter's answer to a step and a kink, never higher than the sound's own swing. A click of the mouth is the kink
with which a resonance begins that rings for some milliseconds.

The three are weighed by a multinomial logistic regression on planted faults in clean speech and music; its weights,
rounded, are below.
"""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.signal import butter, sosfilt

from umbrick.core.model.damage_extent import extent, order_for
from umbrick.core.model.interpolation import interpolated
from umbrick.core.survey.detector import Block, Format
from umbrick.core.survey.impulses import Impulses, impulses
from umbrick.core.survey.outline import Outline, outline
from umbrick.core.survey.residual import Residual
from umbrick.core.survey.voice_likeness import may_be_voice

Array = npt.NDArray[np.float64]


class Shape(IntEnum):
    """What an impulse is taken for."""

    CLICK = 0
    BREAK = 1
    MOUTH = 2


_COLUMNS = (
    # name, weight for a break, weight for a mouth click; a click has 0 throughout
    ("spike", -12.8, 9.5),
    ("spike beyond 0.9", -104.5, -32.8),
    ("kink", 51.6, 2.8),
    ("height against 80 ms", 0.13, -0.03),
    ("height against 10 ms", -0.71, -0.56),
    ("octaves of a millisecond", 2.42, 1.86),
    ("rings for 2 ms", -0.07, 0.1),
    ("rings for 5 ms", 0.28, 0.27),
    ("spike without ringing", 3.9, -0.86),
    ("rings more than later", 0.08, 0.24),
    ("constant", -32.8, -10.1),
)
_WEIGHTS = np.array([(0.0, at_break, at_mouth) for _, at_break, at_mouth in _COLUMNS])
_HALF_SURE_DB = 9.5
_NARROW_BAND_RATE, _NARROW_BAND_DB = 16_000, 1.2
"""At a telephone's rate there are fewer samples to tell a consonant from a click by."""

_HALF_BURIED_DB = -22.0
"""Impulses this far below the sound around them are as likely coding noise as damage; the more they stand out, the
further below they may be."""

_LEAST_CONFIDENCE = 0.05
_RING_HZ = 1500.0
_SHIFTS = range(-2, 3)
_SPIKE = 0.9
_EDGE_SHARE = 0.12
_WORTH_A_LOOK, _LOOK_SECONDS = 0.3, 0.04
_IMPULSE_HEIGHT, _SURE_OF_IMPULSE = 2.0, 0.85


class Event(NamedTuple):
    """An impulse in frames of the recording: how far it stands out in dB, and its height relative to the sound
    around, how sure it is damage at all, and how sure it is of each :class:`Shape`."""

    start: int
    stop: int
    channel: int
    excess_db: float
    relative_db: float
    confidence: float
    shares: tuple[float, float, float]


def events(block: Block) -> list[Event]:
    """Return the impulses of a block that may be damage, sorted by shape, in every channel."""
    found = []
    for channel, (residual, measured) in enumerate(block.shared(impulses)):
        excess_db = 20 * np.log10(measured.prominence)
        relative_db = 20 * np.log10(np.maximum(measured.amplitude, 1e-9) / np.maximum(measured.level, 1e-6))
        buried_db = _HALF_BURIED_DB - 0.5 * np.clip(excess_db - 12, 0, 20)
        half_sure_db = _HALF_SURE_DB + (_NARROW_BAND_DB if block.rate < _NARROW_BAND_RATE else 0.0)
        confidence = _sure((excess_db - half_sure_db) / 0.8) * _sure((relative_db - buried_db) / 2)
        reach = 2 * (residual.predictor.shape[1] - 1)
        inside = (measured.peak >= reach + 2) & (measured.peak < len(residual.error) - reach - 2)
        rows = np.flatnonzero((confidence >= _LEAST_CONFIDENCE) & inside)
        if not len(rows):
            continue
        chosen = measured.where(rows)
        spike, kink = _explained(residual, chosen.peak, reach)
        shares = _shares(block, residual, chosen, relative_db[rows], spike, kink)
        _look_again(residual, chosen, confidence[rows], shares, block.rate)
        for index, row in enumerate(rows.tolist()):
            start, stop = _extent(residual, chosen, index, bool(spike[index] > _SPIKE))
            found.append(
                Event(
                    residual.first + start,
                    residual.first + stop,
                    channel,
                    float(excess_db[row]),
                    float(relative_db[row]),
                    float(confidence[row]),
                    (float(shares[index, 0]), float(shares[index, 1]), float(shares[index, 2])),
                )
            )
    return found


def _sure(doubt: npt.NDArray[np.floating]) -> Array:
    return np.asarray(1 / (1 + np.exp(-np.clip(doubt.astype(np.float64), -40, 40))))


def _explained(residual: Residual, peaks: npt.NDArray[np.int64], reach: int) -> tuple[Array, Array]:
    """Return the share of the residual's power around each peak that a spike, and that a step and a kink, explain."""
    errors = np.lib.stride_tricks.sliding_window_view(residual.error, 2 * reach + 1)[peaks - reach].astype(np.float64)
    power = np.maximum(np.square(errors).sum(axis=1), 1e-30)
    half = residual.responses(peaks)
    order = half.shape[1] - 1
    spikes = np.zeros_like(errors)
    spikes[:, reach : reach + order + 1] = half
    spikes[:, reach - order : reach + 1] = half[:, ::-1]
    steps = np.cumsum(spikes, axis=1) - spikes / 2
    kinks = np.cumsum(steps, axis=1) - steps / 2
    best_spike, best_kink = np.zeros(len(peaks)), np.zeros(len(peaks))
    for shift in _SHIFTS:
        templates = np.roll(np.stack([spikes, steps, kinks], axis=1), shift, axis=2)
        products = np.einsum("ntk,nk->nt", templates, errors)
        grams = np.einsum("ntk,nuk->ntu", templates, templates)
        grams += np.eye(3) * (1e-9 * np.trace(grams, axis1=1, axis2=2)[:, np.newaxis, np.newaxis] + 1e-30)
        fitted = np.linalg.solve(grams, products[..., np.newaxis])[..., 0]
        best_kink = np.maximum(best_kink, (products * fitted).sum(axis=1) / power)
        best_spike = np.maximum(best_spike, products[:, 0] ** 2 / grams[:, 0, 0] / power)
    return best_spike, best_kink


def _shares(block: Block, residual: Residual, chosen: Impulses, relative_db: Array, spike: Array, kink: Array) -> Array:
    """Return how sure each impulse is of each shape, rows that add up to 1."""
    rate = block.rate
    high = sosfilt(butter(2, min(_RING_HZ, 0.3 * rate), "highpass", fs=rate, output="sos"), residual.wave)
    sums = np.concatenate([[0.0], np.cumsum(np.square(high))])

    def power(first_ms: float, last_ms: float) -> Array:
        first, last = (
            np.clip(chosen.peak + round(ms * rate / 1000), 0, len(residual.wave)) for ms in (first_ms, last_ms)
        )
        return np.asarray((sums[last] - sums[first]) / np.maximum(1, last - first) + 1e-12)

    before = power(-6.0, -0.3)
    rings = 10 * np.log10(power(0.17, 2.0) / before)
    surroundings_db = 20 * np.log10(np.maximum(chosen.amplitude, 1e-9) / np.maximum(chosen.surroundings, 1e-6))
    columns = [
        spike,
        np.maximum(spike - 0.9, 0),
        kink,
        np.clip(surroundings_db, -30, 20),
        np.clip(relative_db, -25, 20),
        np.log2((chosen.stop - chosen.start) * 1e3 / rate),
        np.clip(rings, -3, 15),
        np.clip(10 * np.log10(power(2.0, 5.0) / before), -3, 15),
        np.maximum(spike - 0.9, 0) * np.clip(6 - rings, 0, 8),
        np.clip(10 * np.log10(power(0.17, 2.0) / power(6.0, 9.0)), -5, 20),
        np.ones(len(spike)),
    ]
    weighed = np.stack(columns, axis=1) @ _WEIGHTS
    shares = np.exp(weighed - weighed.max(axis=1, keepdims=True))
    return np.asarray(shares / shares.sum(axis=1, keepdims=True))


def _look_again(residual: Residual, found: Impulses, confidence: Array, shares: Array, rate: int) -> None:
    """Take for clicks what was taken for breaks but stands out too far, once its damage is followed to its ends.

    A break lies within the sound's own swing; what is twice as high as the sound around is an impulse.
    """
    breaks = np.flatnonzero((shares.argmax(axis=1) == Shape.BREAK) & (confidence >= _WORTH_A_LOOK))
    reach = round(_LOOK_SECONDS * rate)
    for row in breaks.tolist():
        peak = int(found.peak[row])
        first = max(0, peak - reach)
        wave = residual.wave[first : peak + reach].astype(np.float64)
        start, stop = extent(wave, int(found.start[row]) - first, int(found.stop[row]) - first, rate)
        if stop - start > reach // 2:
            continue
        order = order_for(stop - start)
        expected = interpolated(wave, start, stop, order, sweeps=2)[0]
        stands_out = float(np.abs(wave[start:stop] - expected).max())
        if stands_out > _IMPULSE_HEIGHT * max(float(found.level[row]), 1e-6):
            shares[row] = shares[row] * (1 - _SURE_OF_IMPULSE)
            shares[row, Shape.CLICK] += _SURE_OF_IMPULSE


def _extent(residual: Residual, found: Impulses, row: int, is_spike: bool) -> tuple[int, int]:
    """Return the first index of an impulse and that after its last: one, if a single wrong sample explains it."""
    peak, start, stop = int(found.peak[row]), int(found.start[row]), int(found.stop[row])
    if is_spike:
        return peak, peak + 1
    size = np.abs(residual.error[start:stop])
    loud = np.flatnonzero(size >= _EDGE_SHARE * size.max())
    return start + int(loud[0]), start + int(loud[-1]) + 1


def together(found: list[Event]) -> list[list[Event]]:
    """Return events in order of time, those that overlap in several channels as one group."""
    groups: list[list[Event]] = []
    reach = -1
    for event in sorted(found):
        if event.start < reach:
            groups[-1].append(event)
            reach = max(reach, event.stop)
        else:
            groups.append([event])
            reach = event.stop
    return groups


class EventCollector:
    """Collects the events of all blocks, for the detectors that each take some of them for theirs."""

    needs = (events, outline)

    def __init__(self, form: Format) -> None:
        self._format = form
        self._events: list[Event] = []
        self._outlines: list[Outline] = []

    def feed(self, block: Block) -> None:
        """Collect a block's events."""
        self._events += block.shared(events)
        self._outlines.append(block.shared(outline))

    def _groups(self) -> list[list[Event]]:
        return together(self._events)

    def _may_be_voice(self) -> bool:
        return may_be_voice(self._outlines)
