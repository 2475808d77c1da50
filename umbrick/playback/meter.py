"""Meters of what is played: peak with hold, true peak, short-term loudness, and how often full scale was passed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from umbrick.core.measure.loudness import LoudnessMeter
from umbrick.core.sound.band_limited import CURVE_CONTEXT, band_limited
from umbrick.core.units import amplitude_to_db
from umbrick.playback.output import Block

_HOLD_SECONDS = 1.5
_FALL_DB_PER_SECOND = 24.0
_OVERSAMPLING = 4


@dataclass(frozen=True, slots=True)
class Reading:
    """Levels now: in dB, the highest channel's; ``over`` counts samples beyond full scale since the last reset."""

    peak_dbfs: float = -200.0
    held_dbfs: float = -200.0
    true_peak_dbtp: float = -200.0
    short_term_lufs: float = -200.0
    over: int = 0


class Meter:
    """Measures blocks in the order they are played."""

    def __init__(self, rate: int, channels: int) -> None:
        self._rate = rate
        self._channels = channels
        self.reset()

    def reset(self) -> None:
        """Forget everything."""
        self._loudness = LoudnessMeter(self._rate, self._channels)
        self._tail = np.zeros((2 * CURVE_CONTEXT, self._channels), np.float32)
        self._held_for = 0.0
        self.reading = Reading()

    def feed(self, block: Block) -> None:
        """Measure the block that is played next; :attr:`reading` then tells."""
        if not len(block):
            return
        seconds = len(block) / self._rate
        peak = amplitude_to_db(float(np.abs(block).max()))
        old = self.reading
        falling = max(peak, old.peak_dbfs - _FALL_DB_PER_SECOND * seconds)
        self._held_for += seconds
        held = old.held_dbfs
        if peak >= held or self._held_for > _HOLD_SECONDS:
            held, self._held_for = peak, 0.0
        self._loudness.feed(block)
        self.reading = Reading(
            falling,
            held,
            max(old.true_peak_dbtp, self._true_peak_dbtp(block)),
            self._loudness.short_term_lufs(),
            old.over + int(np.count_nonzero(np.abs(block) > 1.0)),
        )

    def _true_peak_dbtp(self, block: Block) -> float:
        sound = np.concatenate([self._tail, block])
        self._tail = sound[-2 * CURVE_CONTEXT :]
        edge = CURVE_CONTEXT * _OVERSAMPLING
        return amplitude_to_db(float(np.abs(band_limited(sound, _OVERSAMPLING)[edge:-edge]).max()))
