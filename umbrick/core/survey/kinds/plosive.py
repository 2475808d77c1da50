"""Plosives: breath that hits the microphone, a thump below the voice where a syllable begins."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.low_bursts import HOP, band_levels, extent, peaks
from umbrick.core.survey.levels.low_wave import LowWaves, low_wave, step_for
from umbrick.core.survey.levels.outline import Outline, levels_of, loud_db, outline

_BAND_HZ = (20.0, 130.0)
_SMOOTHED_SECONDS = 0.012
_APART_SECONDS = 0.12
_LONGEST_SECONDS = 0.3
_RISE_DB, _FALL_DB, _UNDER_DB = 15.0, 22.0, 5.0
_SHORTEST_MS, _LONGEST_MS = 41.0, 190.0
"""What is shorter is a bump of the voice itself, what is longer a drum or the room."""

_HALF_SURE_DB = 9.0
_LEAST_DB = 4.0
_FAINTEST_DB = -20.0
"""A thump that far below the loud passages is what a filter has left of one."""

_FEWEST_SECONDS = 3.0
_MOST_CONFIDENCE = 0.9
"""A strong word is low and sudden too: only an ear can be surer."""


class PlosiveDetector:
    """Collects the low wave; compares its bursts with the loudest that this voice usually has down there."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._step = step_for(form.rate)
        self._wave = LowWaves()
        self._outlines: list[Outline] = []

    def feed(self, block: Block) -> None:
        """Collect a block's low wave and outline."""
        self._wave.append(block.shared(low_wave))
        self._outlines.append(block.shared(outline))

    def findings(self) -> list[Finding]:
        """Return the bursts that stand out."""
        rate = self._format.rate / self._step
        wave = self._wave
        if len(wave) < _FEWEST_SECONDS * rate:
            return []
        level_db = band_levels(wave, rate, _BAND_HZ, _SMOOTHED_SECONDS)
        rate /= HOP
        usual_db = float(np.percentile(level_db, 97))
        apart = round(_APART_SECONDS * rate)
        least_db = max(usual_db + _LEAST_DB, loud_db(levels_of(self._outlines)) + _FAINTEST_DB)
        found = peaks(level_db, apart, least_db)
        findings = [self._finding(level_db, peak, usual_db, rate) for peak in found]
        return [finding for finding in findings if finding.confidence >= 0.05]

    def _finding(self, level_db: np.ndarray, peak: int, usual_db: float, rate: float) -> Finding:
        excess_db = float(level_db[peak]) - usual_db
        longest = round(_LONGEST_SECONDS * rate)
        top_db = float(level_db[peak])
        fall_to_db = max(top_db - _FALL_DB, usual_db - _UNDER_DB)
        start, stop = extent(level_db, peak, longest, _RISE_DB, fall_to_db)
        milliseconds = 1e3 * (stop - start) / rate
        confidence = _MOST_CONFIDENCE / (1 + np.exp(-(excess_db - _HALF_SURE_DB) / 1.2))
        confidence /= (1 + np.exp(-(milliseconds - _SHORTEST_MS) / 3)) * (1 + np.exp((milliseconds - _LONGEST_MS) / 12))
        return Finding(
            id="",
            kind="plosive",
            start=start * self._step * HOP,
            stop=stop * self._step * HOP,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(excess_db / 25, 0, 1)), 3),
            confidence=round(float(confidence), 3),
            evidence=f"a thump {excess_db:.0f} dB over what this voice has below 130 Hz",
            detail={"excess_db": round(excess_db, 2)},
        )


KIND = Kind(
    name="plosive",
    title="Plosives",
    family=Family.VOICE,
    summary="breath that hits the microphone",
    make=PlosiveDetector,
    needs=(low_wave, outline),
    of_outcome=True,
)
