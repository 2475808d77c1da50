"""Clicks: single wrong samples, and ticks of up to five milliseconds that stand alone."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.impulse_sorting import Event, EventCollector, Shape
from umbrick.core.units import format_count

_FEWEST, _FEWEST_A_MINUTE = 12, 60.0
_DOUBTFUL, _DOUBTFUL_SHARE, _FAINT_DB = 0.5, 0.15, 16.0
_MOST_IF_MADE_OF_CLICKS = 0.4
"""Damage stands out or is not heard at all. Where there are many clicks, and of all degrees down to doubtful ones, rain
falls, or gravel is walked on."""


class ClickDetector(EventCollector):
    """Collects the impulses that are taken for clicks."""

    def findings(self) -> list[Finding]:
        """Return the clicks found so far; those in several channels at once are one."""
        found = [self._finding(*found) for found in self._groups(Shape.CLICK)]
        if not self._is_made_of_clicks(found):
            return found
        return [replace(click, confidence=min(click.confidence, _MOST_IF_MADE_OF_CLICKS)) for click in found]

    def _is_made_of_clicks(self, found: list[Finding]) -> bool:
        minutes = self._heard / self._format.rate / 60
        if len(found) < max(_FEWEST, _FEWEST_A_MINUTE * minutes):
            return False
        doubtful = np.mean([click.confidence < _DOUBTFUL for click in found])
        excess_db = np.median([float(click.detail["excess_db"]) for click in found])
        return bool(doubtful >= _DOUBTFUL_SHARE and excess_db <= _FAINT_DB)

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
