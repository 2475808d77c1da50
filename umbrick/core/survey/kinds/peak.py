"""Peaks that stick out: one hit, word or laugh far louder than anything around it."""

from __future__ import annotations

import numpy as np
from scipy.ndimage import maximum_filter1d

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.residual import segment_frames
from umbrick.core.survey.levels.outline import Outline, decibels, outline
from umbrick.core.units import format_clock

_REACH_SECONDS = 8.0
_EVENT_SECONDS = 0.4
_RIVALS = 3
_HALF_SURE_DB = 6.0
_LEAST_DB = 3.0
_FEWEST_EVENTS = 8

_MOST_SURE = 0.85
"""Whether the one hit was meant, only an ear can tell."""


class PeakDetector:
    """Collects the outline, and compares each event's peak with the third highest of the events around it."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._segment = segment_frames(form.rate)
        self._outlines: list[Outline] = []

    def feed(self, block: Block) -> None:
        """Collect a block's outline."""
        self._outlines.append(block.shared(outline))

    def findings(self) -> list[Finding]:
        """Return the peaks that stick out."""
        peaks_db = decibels(Outline.joined(self._outlines).peak.astype(np.float64) ** 2)
        event = max(1, round(_EVENT_SECONDS * self._format.rate / self._segment))
        count = len(peaks_db) // event
        if count < _FEWEST_EVENTS:
            return []
        events_db = peaks_db[: count * event].reshape(count, event).max(axis=1)
        highest = np.flatnonzero(peaks_db == maximum_filter1d(peaks_db, 2 * event + 1))
        reach = round(_REACH_SECONDS / _EVENT_SECONDS)
        findings = []
        for at in highest.tolist():
            own = min(at // event, count - 1)
            around = np.concatenate(
                [events_db[max(0, own - reach) : max(0, own - 1)], events_db[own + 2 : own + 2 + reach]]
            )
            if len(around) < _FEWEST_EVENTS // 2:
                continue
            rival_db = float(np.sort(around)[-min(_RIVALS, len(around))])
            excess_db = float(peaks_db[at]) - rival_db
            if excess_db >= _LEAST_DB and peaks_db[at] > -40:
                findings.append(self._finding(at, excess_db, rival_db, peaks_db))
        return [finding for finding in findings if finding.confidence >= 0.05]

    def _finding(self, at: int, excess_db: float, rival_db: float, peaks_db: np.ndarray) -> Finding:
        first, last = at, at
        limit_db = max(rival_db, float(peaks_db[at]) - 10)
        while first > 0 and peaks_db[first - 1] > limit_db:
            first -= 1
        while last + 1 < len(peaks_db) and peaks_db[last + 1] > limit_db:
            last += 1
        confidence = min(1 / (1 + np.exp(-(excess_db - _HALF_SURE_DB) / 0.8)), _MOST_SURE)
        seconds = _REACH_SECONDS
        return Finding(
            id="",
            kind="peak",
            start=first * self._segment,
            stop=(last + 1) * self._segment,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(excess_db / 20, 0, 1)), 3),
            confidence=round(float(confidence), 3),
            evidence=f"sticks out by {excess_db:.0f} dB over the {seconds:.0f} s before and after",
            detail={"excess_db": round(excess_db, 2), "at": at * self._segment,
                    "clock": format_clock(at * self._segment, self._format.rate)},
        )  # fmt: skip


KIND = Kind(
    name="peak",
    title="Peaks",
    family=Family.LEVELS,
    summary="hits and words far louder than all around them",
    make=PeakDetector,
    needs=(outline,),
    of_outcome=True,
)
