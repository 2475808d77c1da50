"""Hard edges: a recording that starts or ends in the middle of sound, without a fade."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.outline import Outline, outline
from umbrick.core.units import amplitude_to_db, format_db

_EDGE_SECONDS = 0.002
_HALF_SURE_DB = -10.5
"""Of the edge's peak against that of a sine at the mean level of all."""

_LEAST_LEVEL = 0.003


class EdgeDetector:
    """Keeps the first and the last two milliseconds, and the level of all."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._reach = max(2, round(_EDGE_SECONDS * form.rate))
        self._first = np.zeros((0, form.channels), np.float32)
        self._last = np.zeros((0, form.channels), np.float32)
        self._ended = False
        self._outlines: list[Outline] = []
        self._frames = 0

    def feed(self, block: Block) -> None:
        """Look at the ends of a block."""
        own = block.own
        if block.start == 0:
            self._first = own[: self._reach].copy()
        self._last = own[-self._reach :].copy()
        self._ended = len(block.samples) == block.before + block.stop - block.start
        self._frames = block.stop
        self._outlines.append(block.shared(outline))

    def findings(self) -> list[Finding]:
        """Return a finding for each hard end; the end is known when all has been heard."""
        power = Outline.joined(self._outlines).power
        if self._frames < 8 * self._reach or not len(power):
            return []
        level_db = amplitude_to_db(float(np.sqrt(power.mean())))
        jump = float(np.abs(self._last[-1] - self._first[0]).max())
        ends = [(0, 1, self._first, "starts")]
        if self._ended:
            ends.append((self._frames - 1, self._frames, self._last, "ends"))
        findings = []
        for start, stop, edge, word in ends:
            size = float(np.abs(edge).max())
            if size < _LEAST_LEVEL:
                continue
            doubt = (amplitude_to_db(size) - level_db - 3 - _HALF_SURE_DB) / 2
            confidence = float(1 / (1 + np.exp(-doubt)))
            loop = f"; as a loop it jumps by {jump:.2f}" if self._ended and jump > 0.01 else ""
            if confidence >= 0.05:
                findings.append(
                    Finding(
                        id="",
                        kind="hard_edge",
                        start=start,
                        stop=stop,
                        channels=tuple(range(self._format.channels)),
                        severity=round(min(1.0, size / 0.25), 3),
                        confidence=round(confidence, 3),
                        evidence=f"{word} in the middle of sound, at {format_db(amplitude_to_db(size))}{loop}",
                        detail={"level_dbfs": round(amplitude_to_db(size), 2), "loop_jump": round(jump, 5)},
                    )
                )
        return findings


KIND = Kind(
    name="hard_edge",
    title="Hard edges",
    family=Family.LEVELS,
    summary="starts and ends without a fade",
    make=EdgeDetector,
    needs=(outline,),
)
