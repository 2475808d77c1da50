"""Rumble: steady noise below the sound, as a turntable, wind or traffic leaves it."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.low_bursts import HOP, band_levels
from umbrick.core.survey.levels.low_wave import LowWaves, low_wave, step_for
from umbrick.core.survey.levels.outline import Outline, levels_of, loud_db, outline
from umbrick.core.survey.steps import is_stepped
from umbrick.core.units import format_db

_BAND_HZ = (8.0, 35.0)
_STRETCH_SECONDS, _FEWEST_STRETCHES = 0.2, 20
_HALF_SURE_DB = 36.0
_MOST_SPREAD_DB, _MOST_FALL_DB = 9.0, 7.0
"""What is louder down there at some times than at others, by more than the one, or falls below the usual by more than
the other, belongs to the sound."""

_SILENCE_DB = -100.0


class RumbleDetector:
    """Collects the low wave; weighs what never leaves its lowest octaves against the loud passages."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._step = step_for(form.rate)
        self._wave = LowWaves()
        self._outlines: list[Outline] = []
        self._frames, self._stepped = 0, 0

    def feed(self, block: Block) -> None:
        """Collect a block's low wave and outline."""
        self._wave.append(block.shared(low_wave))
        self._outlines.append(block.shared(outline))
        own = block.mono[block.before : block.before + block.stop - block.start]
        # The pulses of a chip stand on one side of zero: how long they last is their low end.
        self._stepped += len(own) if is_stepped(own) else 0
        self._frames = block.stop

    def findings(self) -> list[Finding]:
        """Return one finding that spans the recording, or none."""
        rate = self._format.rate / self._step
        stretch = round(_STRETCH_SECONDS * rate / HOP)
        power = 10 ** (band_levels(self._wave, rate, _BAND_HZ, 0.0).astype(np.float64) / 10)
        count = len(power) // stretch
        if count < _FEWEST_STRETCHES or 2 * self._stepped > self._frames:
            return []
        levels_db = 10 * np.log10(power[: count * stretch].reshape(count, stretch).mean(axis=1))
        least_db, level_db, usual_db, loudest_db = np.percentile(levels_db, (5, 20, 50, 90)).tolist()
        ratio_db = loud_db(levels_of(self._outlines)) - level_db
        doubts = (
            (ratio_db - _HALF_SURE_DB) / 1.2,
            (loudest_db - level_db - _MOST_SPREAD_DB) / 1.5,
            (usual_db - least_db - _MOST_FALL_DB) / 1.0,
        )
        confidence = float(1 / np.prod([1 + np.exp(min(doubt, 40.0)) for doubt in doubts]))
        if confidence < 0.05 or level_db < _SILENCE_DB:
            return []
        told = f"steady noise below 35 Hz at {format_db(level_db)}, {ratio_db:.0f} dB under the loud passages"
        return [
            Finding(
                id="",
                kind="rumble",
                start=0,
                stop=self._frames,
                channels=tuple(range(self._format.channels)),
                severity=round(float(np.clip((55 - ratio_db) / 40, 0, 1)), 3),
                confidence=round(confidence, 3),
                evidence=told,
                detail={"level_dbfs": round(level_db, 1), "ratio_db": round(ratio_db, 1)},
            )
        ]


KIND = Kind(
    name="rumble",
    title="Rumble",
    family=Family.BACKGROUND,
    summary="steady noise below the sound",
    make=RumbleDetector,
    needs=(low_wave, outline),
    of_outcome=True,
)
