"""Intrusions: a foreign tone, whistle, ring or call over the sound, with an onset and an end.

A line in the spectrum is the more likely foreign the longer and straighter it goes on, the fewer other lines the
recording has, and there above all, and the less it dies away, as a struck or plucked string does. The weights of these
are those of a logistic regression on planted calls among the lines of clean speech and music, rounded.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.outline import Outline, outline
from umbrick.core.survey.residual import MARGIN_SEGMENTS, residuals, segment_frames
from umbrick.core.survey.ridges import Floats, Ridge, ridges, tops
from umbrick.core.survey.voice_likeness import may_be_voice

_LOWEST_HZ, _HIGHEST_HZ = 500.0, 14000.0
_SHORTEST_SECONDS = 0.25
_HISTORY_SECONDS = 4.0
_HELD_NOTES = 0.85
"""Music holds notes of its own: a line in it has to be that much likelier foreign."""


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
        self._tops = np.zeros(searched.stop - searched.start)
        self._energy = 0.0
        self._outlines: list[Outline] = []

    def feed(self, block: Block) -> None:
        """Follow the ridges into a block; those that have ended are noted."""
        over, own, energy = block.shared(lines)
        self._outlines.append(block.shared(outline))
        count = len(over)
        self._tops += np.count_nonzero(over, axis=0)
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
        usual = self._energy / max(1, self._row)
        crowd = float(self._tops.sum()) / max(1, self._row)
        in_voice = may_be_voice(self._outlines)
        findings = []
        for line in self._lines:
            seconds = (line.stop - line.start) / self._format.rate
            relative_db = float(10 * np.log10(line.power / max(usual, 1e-12)))
            doubt = (
                0.07 * min(line.over_db, 40.0)
                + 1.7 * min(np.log2(seconds / _SHORTEST_SECONDS), 3.0)
                - 0.7 * np.log2(0.3 + self._neighbours(line))
                - 0.64 * np.log2(0.3 + crowd)
                - 0.17 * float(np.clip(line.decay_db, 0, 15))
                + 0.18 * min(relative_db, 0.0)
                + 3.6 * min(line.low_hz / 1000, 2.0)
                - 6.3
                - (0.0 if in_voice else _HELD_NOTES)
            )
            confidence = float(1 / (1 + np.exp(-doubt)))
            if confidence >= 0.05:
                findings.append(self._finding(line, confidence, seconds))
        return sorted(findings, key=lambda finding: finding.start)

    def _neighbours(self, line: _Line) -> float:
        """Return how many tops a row has, at other times, within a third of an octave of a line."""
        low, high = (int(hz / self._hz) - self._low for hz in (line.low_hz / 1.25, line.high_hz * 1.25))
        own = (line.stop - line.start) / self._segment
        return max(0.0, float(self._tops[max(0, low) : high].sum()) - own) / max(1.0, self._row - own)

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


KIND = Kind(
    name="intrusion",
    title="Intrusions",
    family=Family.BACKGROUND,
    summary="foreign tones, whistles, rings and calls",
    make=IntrusionDetector,
    needs=(lines, outline),
)
