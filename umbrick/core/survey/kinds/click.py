"""Clicks: single wrong samples, and ticks of up to five milliseconds that stand alone."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.impulse_sorting import Event, EventCollector, Shape
from umbrick.core.units import format_count


class ClickDetector(EventCollector):
    """Collects the impulses that are taken for clicks."""

    def findings(self) -> list[Finding]:
        """Return the clicks found so far; those in several channels at once are one."""
        return [self._finding(*found) for found in self._groups(Shape.CLICK)]

    def _finding(self, group: list[Event], best: Event, confidence: float) -> Finding:
        start, stop = min(event.start for event in group), max(event.stop for event in group)
        frames = stop - start
        length = format_count(frames, "sample") if frames < 24 else f"{1e3 * frames / self._format.rate:.1f} ms"
        return Finding(
            id="",
            kind="click",
            start=start,
            stop=stop,
            channels=tuple(sorted({event.channel for event in group})),
            severity=round(float(np.clip((best.relative_db + 20) / 50, 0, 1)), 3),
            confidence=round(confidence, 3),
            evidence=f"{length}, {best.excess_db:.0f} dB above prediction",
            detail={"excess_db": round(best.excess_db, 2), "relative_db": round(best.relative_db, 2),
                    "spike": frames == 1},
        )  # fmt: skip


KIND = Kind(
    name="click",
    title="Clicks",
    family=Family.IMPULSES,
    summary="single wrong samples and short ticks",
    make=ClickDetector,
    needs=EventCollector.needs,
)
