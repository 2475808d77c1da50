"""Discontinuities: places where the wave goes on from elsewhere, because a stretch is missing or was put in."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulse_sorting import Event, EventCollector, Shape


class DiscontinuityDetector(EventCollector):
    """Collects the impulses that are taken for breaks in the wave."""

    def findings(self) -> list[Finding]:
        """Return the breaks found so far; those in several channels at once are one."""
        return [self._finding(*found) for found in self._groups(Shape.BREAK)]

    def _finding(self, group: list[Event], best: Event, confidence: float) -> Finding:
        at = (best.start + best.stop) // 2
        return Finding(
            id="",
            kind="discontinuity",
            start=at,
            stop=at + 1,
            channels=tuple(sorted({event.channel for event in group})),
            severity=round(float(np.clip((best.relative_db + 30) / 40, 0, 1)), 3),
            confidence=round(confidence, 3),
            evidence=f"the wave breaks off and goes on from elsewhere, {best.excess_db:.0f} dB out of what is foretold",
            detail={"excess_db": round(best.excess_db, 2), "relative_db": round(best.relative_db, 2)},
        )


KIND = Kind(
    name="discontinuity",
    title="Discontinuities",
    family=Family.GAPS,
    summary="places where a stretch is missing or was put in",
    make=DiscontinuityDetector,
    needs=EventCollector.needs,
)
