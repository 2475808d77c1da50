"""Mouth clicks: the smack of tongue or lips, a short resonance in a pause or beside a vowel."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.impulse_sorting import Event, EventCollector, Shape

_USUAL_SECONDS = 0.005


class MouthClickDetector(EventCollector):
    """Collects the impulses that begin a short resonance."""

    def findings(self) -> list[Finding]:
        """Return the mouth clicks found so far; none where there is no voice."""
        return [self._finding(*found) for found in self._groups(Shape.MOUTH)]

    def _finding(self, group: list[Event], best: Event, confidence: float) -> Finding:
        start = min(event.start for event in group)
        ring = round(_USUAL_SECONDS * self._format.rate)
        return Finding(
            id="",
            kind="mouth_click",
            start=start,
            stop=max(start + ring, *(event.stop for event in group)),
            channels=tuple(sorted({event.channel for event in group})),
            severity=round(float(np.clip((best.relative_db + 30) / 50, 0, 1)), 3),
            confidence=round(confidence, 3),
            evidence=f"a smack that rings for some milliseconds, {best.excess_db:.0f} dB out of what is foretold",
            detail={"excess_db": round(best.excess_db, 2), "relative_db": round(best.relative_db, 2)},
        )


KIND = Kind(
    name="mouth_click",
    title="Mouth clicks",
    family=Family.VOICE,
    summary="smacks of tongue and lips",
    make=MouthClickDetector,
    needs=EventCollector.needs,
)
