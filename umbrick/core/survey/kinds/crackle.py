"""Crackle: stretches with many small ticks, as dust, a worn groove or a failing contact leaves them."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.residual import MARGIN_SEGMENTS, Residual, residuals

Integers = npt.NDArray[np.int64]

_OVER_MEDIAN = 6.0
_QUIETEST_DB = -30.0
_LEAST_AMPLITUDE = 1e-4
_ONE_TICK_SECONDS = 0.0012
_LONGEST_GAP_SECONDS = 0.12
_FEWEST_TICKS = 8
_SHORTEST_SECONDS = 0.1
_HALF_SURE_PER_SECOND = 16.0
_SHORT_SECONDS, _SPARSE_PER_SECOND, _MOST_IF_SHORT_AND_SPARSE = 1.5, 45.0, 0.6
"""So few ticks in so short a time may be a voice's pulses or clapping hands: listed, but not mended unasked."""

_LOW_RATE, _LOW_RATE_PER_SECOND = 16000, 350.0
"""Below this rate the pulses of a voice are hardly predictable, and look like ticks."""

_ALIKE, _REGULAR, _PENALTY, _SUREST = 0.12, 0.33, 60.0, 6.0
"""Ticks come at random; where more than a third of the intervals are alike, they are the pulses of a voice."""

_NEXT_ALIKE, _NEXT_REGULAR = 0.08, 0.17
"""And where more than a sixth are like the one before, or the one before that, the pulses of tones that change."""


class CrackleDetector:
    """Collects ticks: bins of the residual far over the median of those around, and not buried in the sound."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._ticks: list[Integers] = []
        self._heard = 0

    def feed(self, block: Block) -> None:
        """Collect the ticks of a block, of all channels."""
        self._ticks.append(block.shared(ticks))
        self._heard = block.stop

    def findings(self) -> list[Finding]:
        """Return the stretches in which ticks are dense."""
        rate = self._format.rate
        found = np.concatenate(self._ticks) if self._ticks else np.zeros(0, np.int64)
        found = found[np.diff(found, prepend=-rate) > _ONE_TICK_SECONDS * rate]
        borders = np.flatnonzero(np.diff(found) > _LONGEST_GAP_SECONDS * rate) + 1
        findings = []
        for stretch in np.split(found, borders):
            if len(stretch) < _FEWEST_TICKS or stretch[-1] - stretch[0] < _SHORTEST_SECONDS * rate:
                continue
            per_second = len(stretch) * rate / (int(stretch[-1]) + 1 - int(stretch[0]))
            # A tick is told by the millisecond in which it is loudest.
            one = round(_ONE_TICK_SECONDS * rate)
            start, stop = max(0, int(stretch[0]) - one // 2), min(self._heard, int(stretch[-1]) + one)
            half_sure = _HALF_SURE_PER_SECOND if rate >= _LOW_RATE else _LOW_RATE_PER_SECOND
            doubt = 4 * np.log2(per_second / half_sure) + (len(stretch) - _FEWEST_TICKS) / 4
            doubt = min(doubt, _SUREST)
            doubt -= _PENALTY * max(0.0, _regularity(stretch) - _REGULAR, _next_regularity(stretch) - _NEXT_REGULAR)
            confidence = float(1 / (1 + np.exp(-doubt)))
            if stop - start < _SHORT_SECONDS * rate and per_second < _SPARSE_PER_SECOND:
                confidence = min(confidence, _MOST_IF_SHORT_AND_SPARSE)
            findings.append(self._finding(start, stop, per_second, confidence))
        return [finding for finding in findings if finding.confidence >= 0.05]

    def _finding(self, start: int, stop: int, per_second: float, confidence: float) -> Finding:
        seconds = (stop - start) / self._format.rate
        return Finding(
            id="",
            kind="crackle",
            start=start,
            stop=stop,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(np.log10(per_second) / 2.5, 0, 1)), 3),
            confidence=round(confidence, 3),
            evidence=f"about {per_second:.0f} ticks a second for {seconds:.1f} s",
            detail={"per_second": round(per_second, 1)},
        )


def _regularity(stretch: Integers) -> float:
    """Return the largest share of the intervals between ticks that are like one of them."""
    intervals = np.sort(np.diff(stretch)).astype(np.float64)
    low, high = (np.searchsorted(intervals, intervals * factor) for factor in (1 - _ALIKE, 1 + _ALIKE))
    return float((high - low).max() / len(intervals))


def _next_regularity(stretch: Integers) -> float:
    """Return the share of the intervals between ticks that are like the one before, or the one before that."""
    intervals = np.diff(stretch).astype(np.float64)
    shares = [np.abs(intervals[apart:] / intervals[:-apart] - 1) <= _NEXT_ALIKE for apart in (1, 2)]
    return max(float(share.mean()) for share in shares)


def ticks(block: Block) -> Integers:
    """Return the frames of a block's ticks, of all channels."""
    return np.unique(np.concatenate([_ticks(block, residual) for residual in block.shared(residuals)]))


def _ticks(block: Block, residual: Residual) -> Integers:
    """Return the frames of a channel's ticks."""
    count, size = len(residual.gain), residual.bin_frames
    bins = residual.peaks.reshape(count, -1)
    around = np.concatenate([bins[:-2], bins[1:-1], bins[2:]], axis=1)
    # Sorting all of a short row is quicker than looking for its middle.
    around.sort(axis=1)
    median = around[:, around.shape[1] // 2, np.newaxis]
    level = np.sqrt(np.square(residual.wave).reshape(count, -1).mean(axis=1))[1:-1, np.newaxis]
    amplitude = bins[1:-1] / residual.gain[1:-1, np.newaxis]
    least = np.maximum(level * np.float32(10 ** (_QUIETEST_DB / 20)), np.float32(_LEAST_AMPLITUDE))
    is_tick = (bins[1:-1] > _OVER_MEDIAN * median) & (amplitude > least)
    own = slice(MARGIN_SEGMENTS - 1, len(is_tick) - MARGIN_SEGMENTS + 1)
    rows, columns = np.nonzero(is_tick[own])
    return np.asarray(block.start + rows * residual.segment + columns * size + size // 2, np.int64)


KIND = Kind(
    name="crackle",
    title="Crackle",
    family=Family.IMPULSES,
    summary="stretches with many small ticks",
    make=CrackleDetector,
    needs=(ticks,),
)
