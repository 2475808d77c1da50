"""Discontinuities: places where the wave goes on from elsewhere, because a stretch is missing or was put in."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.impulse_sorting import Event, EventCollector, Shape, events
from umbrick.core.survey.impulses.swapped import Swapped, swapped

_LEAST_SURE = 0.3


class DiscontinuityDetector(EventCollector):
    """Collects the impulses that are taken for breaks in the wave, and pieces that changed places between them."""

    def __init__(self, form: Format) -> None:
        super().__init__(form)
        self._recent: dict[int, bool] = {}
        self._swapped: list[Swapped] = []

    def feed(self, block: Block) -> None:
        """Collect a block's events."""
        super().feed(block)
        first = block.start - block.before
        stand_out = [event for event in block.shared(events) if sum(event.sure) >= _LEAST_SURE]
        known = {at: is_break for at, is_break in self._recent.items() if at >= first}
        known |= {(event.start + event.stop) // 2: event.may_be_break for event in stand_out}
        self._recent = known
        if stand_out and len(known) > 2:
            wave = block.mono.astype(np.float64)
            breaks = {at - first: is_break for at, is_break in sorted(known.items())}
            for pieces in swapped(wave, breaks, block.rate):
                start = first + pieces.start
                if not self._swapped or start > self._swapped[-1].start:
                    self._swapped.append(pieces._replace(start=start))

    def findings(self) -> list[Finding]:
        """Return the breaks found so far, those in several channels at once as one, and pieces that changed places."""
        turned = [self._out_of_order(pieces) for pieces in self._swapped]
        breaks = [self._finding(*found) for found in self._groups(Shape.BREAK)]
        return sorted([*turned, *breaks], key=lambda finding: finding.start)

    def _out_of_order(self, pieces: Swapped) -> Finding:
        milliseconds = 1000 * pieces.length / self._format.rate
        return Finding(
            id="",
            kind="discontinuity",
            start=pieces.start,
            stop=pieces.start + 2 * pieces.length,
            channels=tuple(range(self._format.channels)),
            severity=0.8,
            confidence=0.97,
            evidence=f"two pieces of {pieces.length} frames ({milliseconds:.0f} ms) changed places",
            detail={"swapped_frames": pieces.length},
        )

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
