"""What is measured of an impulse to tell what it is: how it stands out, what explains it, what rings around it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.filters.recursive import filtered, high_pass
from umbrick.core.survey.impulses.impulses import Impulses
from umbrick.core.survey.impulses.residual import Residual

Array = npt.NDArray[np.float64]

NARROW_BELOW_RATE = 14_000
"""Below this rate there is no more than a telephone's band, and fewer samples to tell a consonant from a click by."""

_FAINTEST_DB, _FAINTEST_NARROW_DB = 7.5, 4.0
_MASKED_DB = -48.0
"""What is that far below the sound within 10 ms is covered by it, as is the corner of a fade of a pure tone."""

_LEAST_AMPLITUDE = 5e-5
"""A step and a half of 16 bits: in digital silence, the last bit of a quiet sound is no tick."""

_RING_HZ, _BRIGHT_HZ = 1500.0, 5000.0
_BEFORE_MS, _AFTER_MS = 14.0, 12.0
_SHIFTS = range(-2, 3)
_A_FEW = range(-3, 4)


class Measured(NamedTuple):
    """What was measured of impulses, an item each; ``columns`` by name are what they are weighed by.

    ``excess_db`` is how far the residual stands out of what is nearby, ``relative_db`` the impulse's height relative
    to the sound within 10 ms, ``spike`` the share of the residual that a single wrong sample explains.
    """

    excess_db: Array
    relative_db: Array
    spike: Array
    columns: dict[str, Array]


def worth_a_look(found: Impulses, residual: Residual, rate: int) -> npt.NDArray[np.int64]:
    """Return the rows of the impulses that may be damage at all, and that the residual tells from end to end."""
    reach = _reach(residual)
    inside = (found.peak >= reach + 2) & (found.peak < len(residual.error) - reach - 2)
    faintest_db = _FAINTEST_NARROW_DB if rate < NARROW_BELOW_RATE else _FAINTEST_DB
    is_heard = found.amplitude > np.maximum(10 ** (_MASKED_DB / 20) * found.level, _LEAST_AMPLITUDE)
    return np.flatnonzero(inside & is_heard & (found.prominence >= 10 ** (faintest_db / 20)))


def measured(residual: Residual, found: Impulses, rate: int) -> Measured:
    """Measure impulses of a channel, those of :func:`worth_a_look`."""
    excess_db = 20 * np.log10(found.prominence.astype(np.float64))
    relative_db = 20 * np.log10(np.maximum(found.amplitude, 1e-9) / np.maximum(found.level, 1e-6)).astype(np.float64)
    spike, few, kink = _explained(residual, found.peak)
    wave = _around(residual, found.peak, rate)
    power = _Power(wave, rate)
    rings = _Power(_above(_RING_HZ, wave, rate), rate)
    bright = _Power(_above(_BRIGHT_HZ, wave, rate), rate)
    before = rings.between(-6.0, -0.3)
    rings_db = _db(rings.between(0.17, 2.0) / before)
    beside = power.between(-12.0, -2.0) + power.between(2.0, 12.0)
    beyond, nothing_else = np.maximum(spike - 0.9, 0), np.maximum(spike - 0.97, 0)
    excess = np.clip(excess_db, _FAINTEST_NARROW_DB, 30)
    columns = {
        "spike": spike,
        "left by a single wrong sample": np.clip(_db(1.001 - spike), -30, 0),
        "left by a few wrong samples": np.clip(_db(1.001 - few), -20, 0),
        "height against 10 ms": np.clip(relative_db, -25, 20),
        "height below -15 dB": np.clip(relative_db + 15, -25, 0),
        "spike without ringing": beyond * np.clip(6 - rings_db, 0, 8),
        "stands out": excess,
        "stands out and is no kink": (1 - kink) * excess,
        "stands out as a spike": beyond * excess,
        "brightness": np.clip(_db(bright.between(-0.5, 1.0) / power.between(-10.0, 10.0)), -40, 0),
        "brightness around": np.clip(_db((bright.between(-12.0, -2.0) + bright.between(2.0, 12.0)) / beside), -50, 0),
        "change of what rings": np.clip(np.abs(_db(rings.between(3.0, 12.0) / rings.between(-12.0, -2.0))), 0, 20),
        "stands out as nothing but a spike": nothing_else * np.clip(excess_db, 0, 80),
        "octaves of a millisecond": np.log2((found.stop - found.start) * 1e3 / rate),
        "rings more than later": np.clip(_db(rings.between(0.17, 2.0) / rings.between(6.0, 9.0)), -5, 20),
        "height below the sound as a spike": nothing_else * np.clip(relative_db, -30, 0),
        "stands out and is high": np.clip(relative_db, -25, 20) * excess / 10,
        "height above the sound": np.clip(relative_db, 0, 20),
        "constant": np.ones(len(spike)),
    }
    return Measured(excess_db, relative_db, spike, columns)


def _reach(residual: Residual) -> int:
    """Return how far from its place a wrong sample can leave something in the residual."""
    return 2 * (residual.predictor.shape[1] - 1)


def _explained(residual: Residual, peaks: npt.NDArray[np.int64]) -> tuple[Array, Array, Array]:
    """Return the share of the residual's power around each peak that a spike, that a few wrong samples in a row, and
    that a spike, a step and a kink explain."""
    reach = _reach(residual)
    errors = np.lib.stride_tricks.sliding_window_view(residual.error, 2 * reach + 1)[peaks - reach].astype(np.float64)
    power = np.maximum(np.square(errors).sum(axis=1), 1e-30)
    half = residual.responses(peaks)
    order = half.shape[1] - 1
    spikes = np.zeros_like(errors)
    spikes[:, reach : reach + order + 1] = half
    spikes[:, reach - order : reach + 1] = half[:, ::-1]
    few = _share(np.stack([np.roll(spikes, shift, axis=1) for shift in _A_FEW], axis=1), errors, power)
    steps = np.cumsum(spikes, axis=1) - spikes / 2
    kinks = np.cumsum(steps, axis=1) - steps / 2
    best_spike, best_kink = np.zeros(len(peaks)), np.zeros(len(peaks))
    for shift in _SHIFTS:
        templates = np.roll(np.stack([spikes, steps, kinks], axis=1), shift, axis=2)
        best_spike = np.maximum(best_spike, _share(templates[:, :1], errors, power))
        best_kink = np.maximum(best_kink, _share(templates, errors, power))
    return best_spike, few, best_kink


def _share(templates: Array, errors: Array, power: Array) -> Array:
    """Return the share of each error's power that its templates, of shape (errors, templates, frames), explain."""
    products = np.einsum("ntk,nk->nt", templates, errors)
    grams = templates @ templates.transpose(0, 2, 1)
    size = np.trace(grams, axis1=1, axis2=2)[:, np.newaxis, np.newaxis]
    grams += np.eye(templates.shape[1]) * (1e-9 * size + 1e-30)
    fitted = np.linalg.solve(grams, products[..., np.newaxis])[..., 0]
    return np.asarray((products * fitted).sum(axis=1) / power)


def _around(residual: Residual, peaks: npt.NDArray[np.int64], rate: int) -> Array:
    """Return the wave around each peak, a row each, zeros beyond its ends."""
    before, after = (round(ms * rate / 1000) for ms in (_BEFORE_MS, _AFTER_MS))
    padded = np.pad(residual.wave, (before, after))
    return np.lib.stride_tricks.sliding_window_view(padded, before + after)[peaks].astype(np.float64)


def _above(hz: float, wave: Array, rate: int) -> Array:
    return filtered(high_pass(min(hz, 0.35 * rate), rate), wave)[0]


def _db(ratio: Array) -> Array:
    return np.asarray(10 * np.log10(ratio))


class _Power:
    """The mean power of waves, a row each, between two times in milliseconds after their peaks."""

    def __init__(self, wave: Array, rate: int) -> None:
        self._sums = np.cumsum(np.square(wave), axis=1)
        self._rate = rate

    def between(self, first_ms: float, last_ms: float) -> Array:
        peak = round(_BEFORE_MS * self._rate / 1000)
        first, last = (peak + round(ms * self._rate / 1000) - 1 for ms in (first_ms, last_ms))
        return np.asarray((self._sums[:, last] - self._sums[:, first]) / max(1, last - first) + 1e-12)
