"""Plosives: breath that hits the microphone, a thump below the voice where a syllable begins."""

from __future__ import annotations

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from umbrick.core.filters.recursive import band_pass, filtered_both_ways
from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.low_wave import Floats, LowWaves, low_wave, step_for
from umbrick.core.survey.outline import Outline, levels_of, loud_db, outline

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
_HOP = 2
_TURNED_FRAMES = 15
"""How much of a wave is turned about its ends before it is filtered, in frames of the low wave."""

_PART_SECONDS, _MARGIN_SECONDS = 300.0, 2.0
_AT_ONCE = 2**18
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
        level_db = _level_db(wave, rate)
        rate /= _HOP
        usual_db = float(np.percentile(level_db, 97))
        apart = round(_APART_SECONDS * rate)
        least_db = max(usual_db + _LEAST_DB, loud_db(levels_of(self._outlines)) + _FAINTEST_DB)
        peaks = _peaks(level_db, apart, least_db)
        findings = [self._finding(level_db, peak, usual_db, rate) for peak in peaks]
        return [finding for finding in findings if finding.confidence >= 0.05]

    def _finding(self, level_db: np.ndarray, peak: int, usual_db: float, rate: float) -> Finding:
        excess_db = float(level_db[peak]) - usual_db
        longest = round(_LONGEST_SECONDS * rate)
        top_db = float(level_db[peak])
        quiet = np.flatnonzero(level_db[max(0, peak - longest) : peak] < top_db - _RISE_DB)
        start = max(0, peak - longest) + (int(quiet[-1]) + 1 if len(quiet) else 0)
        quiet = np.flatnonzero(level_db[peak : peak + longest] < max(top_db - _FALL_DB, usual_db - _UNDER_DB))
        stop = peak + (int(quiet[0]) if len(quiet) else min(longest, len(level_db) - peak))
        milliseconds = 1e3 * (stop - start) / rate
        confidence = _MOST_CONFIDENCE / (1 + np.exp(-(excess_db - _HALF_SURE_DB) / 1.2))
        confidence /= (1 + np.exp(-(milliseconds - _SHORTEST_MS) / 3)) * (1 + np.exp((milliseconds - _LONGEST_MS) / 12))
        return Finding(
            id="",
            kind="plosive",
            start=start * self._step * _HOP,
            stop=stop * self._step * _HOP,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(excess_db / 25, 0, 1)), 3),
            confidence=round(float(confidence), 3),
            evidence=f"a thump {excess_db:.0f} dB over what this voice has below 130 Hz",
            detail={"excess_db": round(excess_db, 2)},
        )


def _peaks(level_db: Floats, apart: int, least_db: float) -> list[int]:
    """Return where the level is highest within ``apart`` to either side; hours are gone through in parts."""
    peaks: list[int] = []
    for start in range(0, len(level_db), _AT_ONCE):
        first = max(0, start - apart)
        near = level_db[first : start + _AT_ONCE + apart]
        tops = np.flatnonzero((near == maximum_filter1d(near, 2 * apart + 1)) & (near > least_db)) + first
        peaks += tops[(tops >= start) & (tops < start + _AT_ONCE)].tolist()
    return peaks


def _level_db(wave: LowWaves, rate: float) -> Floats:
    """Return the level below the voice, at every ``_HOP``th place; hours are gone through in parts."""
    sections = band_pass(*_BAND_HZ, rate)
    part, margin = _HOP * round(_PART_SECONDS * rate / _HOP), _HOP * round(_MARGIN_SECONDS * rate / _HOP)
    levels = np.empty(-(-len(wave) // _HOP), np.float32)
    for start in range(0, len(wave), part):
        first = max(0, start - margin)
        low = filtered_both_ways(sections, wave[first : start + part + margin], _TURNED_FRAMES)
        level = uniform_filter1d(np.square(low), max(1, round(_SMOOTHED_SECONDS * rate)))
        own = level[start - first : start - first + part : _HOP]
        levels[start // _HOP : start // _HOP + len(own)] = 10 * np.log10(np.maximum(own, 1e-12))
    return levels


KIND = Kind(
    name="plosive",
    title="Plosives",
    family=Family.VOICE,
    summary="breath that hits the microphone",
    make=PlosiveDetector,
    needs=(low_wave, outline),
)
