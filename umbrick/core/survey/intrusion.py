"""Intrusions: a foreign tone, whistle, ring or call over the sound, with an onset and an end.

A line in the spectrum is the more likely foreign the louder, longer and straighter it goes on, the fewer others in the
recording do so as well, the fewer begin with it, as the harmonics of a note do, and the less it dies away, as a struck
or plucked string does. The weights are those of a logistic regression on planted calls among the lines of clean
speech and music, at several speeds, rounded.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.residual import MARGIN_SEGMENTS, residuals, segment_frames
from umbrick.core.survey.ridges import Floats, Ridge, ridges, tops

_LOWEST_HZ, _HIGHEST_HZ = 500.0, 14000.0
_SHORTEST_SECONDS = 0.25
_HISTORY_SECONDS = 4.0
_TOGETHER_SECONDS = 0.05
_STEPS_AN_OCTAVE, _STEPS_SHORTER, _DB_WEAKER = 12, 6, 10
"""A rival of a line is at least about 0.7 times as long, and weaker by at most so much."""

_LARGEST_SHARE = 0.6
"""What sounds through most of a recording is no intrusion."""


def _bins(rate: int) -> slice:
    """Return the bins of a residual's spectra in which lines are looked for."""
    hz = rate / (2 * segment_frames(rate))
    return slice(int(_LOWEST_HZ / hz), int(min(_HIGHEST_HZ, 0.46 * rate) / hz))


def lines(block: Block) -> tuple[Floats, Floats, float]:
    """Return the tops of a block's spectra, their power, and the power of all that the block holds."""
    found = block.shared(residuals)
    power = np.asarray(sum(one.power for one in found) / np.float32(len(found)), np.float32)
    count = -(-(block.stop - block.start) // found[0].segment)
    own = power[MARGIN_SEGMENTS : MARGIN_SEGMENTS + count]
    searched = np.ascontiguousarray(own[:, _bins(block.rate)])
    return tops(searched), searched, float(own.sum())


class _Line(NamedTuple):
    start: int
    stop: int
    low_hz: float
    high_hz: float
    over_db: float
    power: float
    decay_db: float


class IntrusionDetector:
    """Follows the ridges of the spectra from block to block; the lonely and lasting ones are foreign."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._segment = segment_frames(form.rate)
        self._hz = form.rate / (2 * self._segment)
        searched = _bins(form.rate)
        self._low = searched.start
        self._over = np.zeros((0, searched.stop - searched.start), np.float32)
        self._power = self._over
        self._row = 0
        self._lines: list[_Line] = []
        self._energy = 0.0

    def feed(self, block: Block) -> None:
        """Follow the ridges into a block; those that have ended are noted."""
        over, own, energy = block.shared(lines)
        count = len(over)
        self._energy += energy
        over, own = np.concatenate([self._over, over]), np.concatenate([self._power, own])
        first_row = self._row - len(self._over)
        self._row += count
        is_last = len(block.samples) == block.before + block.stop - block.start
        shortest = round(_SHORTEST_SECONDS * self._format.rate / self._segment)
        for ridge in ridges(over, own, shortest, since=len(over) - count):
            ended_before = ridge.last + first_row < self._row - count
            if not ended_before and (is_last or ridge.last < len(over) - 1):
                self._lines.append(self._line(ridge, first_row))
        keep = round(_HISTORY_SECONDS * self._format.rate / self._segment)
        self._over, self._power = over[-keep:], own[-keep:]

    def _line(self, ridge: Ridge, first_row: int) -> _Line:
        return _Line(
            (ridge.first + first_row) * self._segment,
            (ridge.last + first_row) * self._segment,
            (ridge.lowest + self._low) * self._hz,
            (ridge.highest + self._low) * self._hz,
            ridge.over_db,
            ridge.power,
            ridge.decay_db,
        )

    def findings(self) -> list[Finding]:
        """Return the foreign lines."""
        if not self._lines:
            return []
        rate, frames = self._format.rate, max(1, self._row) * self._segment
        usual = self._energy / max(1, self._row)
        starts, reach = np.array([line.start for line in self._lines]), _TOGETHER_SECONDS * rate
        in_order = np.sort(starts)
        company = np.searchsorted(in_order, starts + reach) - np.searchsorted(in_order, starts - reach, "right")
        lengths = np.array([(line.stop - line.start) / rate for line in self._lines])
        levels_db = 10 * np.log10([line.power / max(usual, 1e-12) for line in self._lines])
        rivals_a_second = _rivals(lengths, levels_db) * rate / frames
        findings = []
        for line, seconds, level_db, rivals, together in zip(
            self._lines,
            lengths.tolist(),
            levels_db.tolist(),
            rivals_a_second.tolist(),
            company.tolist(),
            strict=True,
        ):
            if line.stop - line.start > _LARGEST_SHARE * frames:
                continue
            doubt = (
                0.086 * min(line.over_db, 40.0)
                + 0.69 * min(np.log2(seconds / _SHORTEST_SECONDS), 3.0)
                + 1.73 * min(line.low_hz / 1000, 2.0)
                + 0.044 * float(np.clip(level_db, -40, 6))
                - 0.41 * np.log2(0.1 + rivals)
                - 0.44 * np.log2(together)
                - 0.077 * float(np.clip(line.decay_db, 0, 15))
                - 0.52 * np.log2(1 + (line.high_hz - line.low_hz) / 50)
                - 5.85
            )
            confidence = float(1 / (1 + np.exp(-doubt)))
            if confidence >= 0.05:
                findings.append(self._finding(line, confidence, seconds))
        return sorted(findings, key=lambda finding: finding.start)

    def _finding(self, line: _Line, confidence: float, seconds: float) -> Finding:
        low, high = line.low_hz, line.high_hz
        where = f"{low:.0f} Hz" if high - low < 3 * self._hz else f"{low:.0f} to {high:.0f} Hz"
        return Finding(
            id="",
            kind="intrusion",
            start=line.start,
            stop=line.stop,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(line.over_db / 50, 0, 1)), 3),
            confidence=round(confidence, 3),
            evidence=f"a tone at {where} for {seconds:.1f} s, {line.over_db:.0f} dB over what is beside it",
            detail={"band_hz": [round(low, 1), round(high, 1)], "over_db": round(line.over_db, 1)},
        )


def _rivals(seconds: npt.NDArray[np.float64], levels_db: npt.NDArray[np.float64]) -> npt.NDArray[np.int64]:
    """Return how many others are about as long as each line or longer, and about as strong or stronger."""
    length = np.floor(_STEPS_AN_OCTAVE * np.log2(seconds)).astype(np.int64)
    level = np.floor(levels_db).astype(np.int64)
    length, level = length - length.min(), level - level.min()
    counts = np.zeros((int(length.max()) + 1, int(level.max()) + 1), np.int64)
    np.add.at(counts, (length, level), 1)
    at_least = counts[::-1, ::-1].cumsum(axis=0).cumsum(axis=1)[::-1, ::-1]
    return np.asarray(at_least[np.maximum(0, length - _STEPS_SHORTER), np.maximum(0, level - _DB_WEAKER)] - 1)


KIND = Kind(
    name="intrusion",
    title="Intrusions",
    family=Family.BACKGROUND,
    summary="foreign tones, whistles, rings and calls",
    make=IntrusionDetector,
    needs=(lines,),
)
