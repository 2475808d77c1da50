"""Thumps without a click: a knock on a stand or a table, a step, a door. Only the lowest octaves have it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.fine_bands import Floats, fine_bands, hop_frames
from umbrick.core.survey.levels.low_bursts import HOP, band_levels, extent, peaks
from umbrick.core.survey.levels.low_wave import LowWaves, low_wave, step_for

_BAND_HZ = (10.0, 100.0)
_MIDDLE = slice(1, 4)
"""From 300 Hz to 4.5 kHz: a drum, a plucked bass and a word have something there too."""

_SMOOTHED_SECONDS, _APART_SECONDS, _LONGEST_SECONDS = 0.02, 0.2, 0.4
_RISE_DB, _FALL_DB, _UNDER_DB = 15.0, 20.0, 3.0
_BESIDE_SECONDS = 0.11
_LEAST_DB, _HALF_SURE_DB = 3.0, 7.0
_FAINTEST_DB = -25.0
_MOST_RISE_DB, _MOST_PEAK_DB, _LEAST_OVER_MIDDLE_DB = 2.5, 8.0, -3.0
_FEWEST_SECONDS = 3.0
_MOST_CONFIDENCE = 0.9
_SILENCE = 1e-12
_EDGE_HOPS = 4


class ThumpDetector:
    """Collects the low wave and the middle bands; looks for bursts of the one that the others do not have."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._step = step_for(form.rate)
        self._wave = LowWaves()
        self._middle: list[Floats] = []
        self._all: list[Floats] = []

    def feed(self, block: Block) -> None:
        """Collect a block's low wave and bands."""
        self._wave.append(block.shared(low_wave))
        bands = block.shared(fine_bands)
        self._middle.append(bands[:, _MIDDLE].sum(axis=1))
        self._all.append(bands.sum(axis=1))

    def findings(self) -> list[Finding]:
        """Return the thumps."""
        rate = self._format.rate / self._step
        if len(self._wave) < _FEWEST_SECONDS * rate:
            return []
        level_db = band_levels(self._wave, rate, _BAND_HZ, _SMOOTHED_SECONDS)
        middle = np.concatenate(self._middle).astype(np.float64) + _SILENCE
        loud_db = float(np.percentile(10 * np.log10(np.concatenate(self._all) + _SILENCE), 95))
        usual_db = float(np.percentile(level_db, 97))
        least_db = max(usual_db + _LEAST_DB, loud_db + _FAINTEST_DB)
        found = peaks(level_db, round(_APART_SECONDS * rate / HOP), least_db)
        # Where a recording is cut off, the edge itself has a low end.
        found = [peak for peak in found if _EDGE_HOPS <= peak < len(level_db) - _EDGE_HOPS]
        findings = [self._finding(level_db, middle, peak, usual_db, rate / HOP) for peak in found]
        return [finding for finding in findings if finding.confidence >= 0.05]

    def _finding(
        self, level_db: Floats, middle: npt.NDArray[np.float64], peak: int, usual_db: float, rate: float
    ) -> Finding:
        top_db = float(level_db[peak])
        fall_to_db = max(top_db - _FALL_DB, usual_db - _UNDER_DB)
        first, last = extent(level_db, peak, round(_LONGEST_SECONDS * rate), _RISE_DB, fall_to_db)
        start, stop = (round(at * self._format.rate / rate) for at in (first, last))
        excess_db = top_db - usual_db
        rise_db, peak_db, over_db = _middle_of(middle, start, stop, top_db, self._format.rate)
        doubts = (
            (_HALF_SURE_DB - excess_db) / 1.5,
            (rise_db - _MOST_RISE_DB) / 1.0,
            (peak_db - _MOST_PEAK_DB) / 1.5,
            (_LEAST_OVER_MIDDLE_DB - over_db) / 2.0,
        )
        confidence = _MOST_CONFIDENCE / np.prod([1 + np.exp(min(doubt, 40.0)) for doubt in doubts])
        return Finding(
            id="",
            kind="thump",
            start=start,
            stop=max(start + 1, stop),
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(excess_db / 25, 0, 1)), 3),
            confidence=round(float(confidence), 3),
            evidence=f"a knock below 100 Hz, {excess_db:.0f} dB over what is usual down there; nothing above it",
            detail={"excess_db": round(excess_db, 2)},
        )


def _middle_of(
    middle: npt.NDArray[np.float64], start: int, stop: int, top_db: float, rate: int
) -> tuple[float, float, float]:
    """Return by how many dB the middle is louder in a burst than beside it, by how many its loudest moment is than is
    usual about there, and how far the burst lies over it."""
    hop = hop_frames(rate)
    first, last = min(start // hop, len(middle) - 1), min(stop // hop + 1, len(middle))
    beside = round(_BESIDE_SECONDS * rate / hop)
    inside = middle[first:last]
    sides = (middle[max(0, first - beside) : first], middle[last : last + beside])
    beside_power = max((float(side.mean()) for side in sides if len(side)), default=_SILENCE)
    usual = float(np.median(np.concatenate([*sides, inside])))
    power = float(inside.mean())
    return tuple(  # type: ignore[return-value]
        10 * float(np.log10(ratio))
        for ratio in (power / beside_power, float(inside.max()) / usual, 10 ** (top_db / 10) / power)
    )


KIND = Kind(
    name="thump",
    title="Thumps",
    family=Family.BACKGROUND,
    summary="knocks on a stand, a table or a floor",
    make=ThumpDetector,
    needs=(low_wave, fine_bands),
)
