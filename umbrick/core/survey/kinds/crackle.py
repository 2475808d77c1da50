"""Crackle: stretches with many small ticks, as dust, a worn groove or a failing contact leaves them."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, next_fast_len, rfft

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.residual import MARGIN_SEGMENTS, Residual, residuals
from umbrick.core.survey.tops.coarse_values import CoarseValues

Floats = npt.NDArray[np.float32]
Integers = npt.NDArray[np.int64]

_OVER_MEDIAN = 6.0
_QUIETEST_DB = -30.0
_LEAST_AMPLITUDE = 1e-4
_ONE_TICK_SECONDS = 0.0012
_LONGEST_GAP_SECONDS = 0.12
_FEWEST_TICKS = 8
_SHORTEST_SECONDS = 0.1
_HALF_SURE_PER_SECOND = 16.0
_AT_ONCE = 256
_APART_SECONDS, _BESIDE_SECONDS, _NEXT_TO_NONE_DB = 0.001, 0.006, -50.0
_SHORT_SECONDS, _DENSE_PER_SECOND, _MOST_IF_SHORT = 1.5, 45.0, 0.6
_BRIEF_SECONDS, _DENSE_IF_BRIEF_PER_SECOND = 0.25, 150.0
_SPARSE_PER_SECOND, _FEWEST_IF_SHORT, _MOST_IF_SHORT_AND_SPARSE = 36.0, 10, 0.45
"""So few ticks in so short a time may be a voice's pulses, raindrops or clapping hands: not mended unasked, or not even
listed."""

_MOST_IF_COARSE = 0.45
"""Values as few as those of eight bits go by steps that look like ticks."""

_ALIKE, _REGULAR, _NEXT_ALIKE, _NEXT_REGULAR = 0.12, 0.33, 0.08, 0.17
"""Ticks come at random; where more than a third of the intervals are alike, or more than a sixth like the one before or
the one before that, they are the pulses of tones, or a machine's."""

_AROUND_BINS, _SHORTEST_SECONDS_APART, _LONGEST_SECONDS_APART = 150, 0.0023, 0.016
_PERIODIC, _PENALTY, _SUREST = 0.5, 60.0, 6.0
"""And where what is left of the sound around one comes again after some milliseconds, they are the pulses of a voice of
which just some stand out, or many hands."""


class Ticks(NamedTuple):
    """Frames of ticks in order, and of each how much of the residual within 50 ms comes again after a pitch cycle."""

    frames: Integers
    periodic: Floats


class CrackleDetector:
    """Collects ticks: bins of the residual far over the median of those around, and not buried in the sound."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._ticks: list[Ticks] = []
        self._coarse = [CoarseValues() for _ in range(form.channels)]
        self._heard = 0

    def feed(self, block: Block) -> None:
        """Collect the ticks of a block, of all channels."""
        self._ticks.append(block.shared(ticks))
        for values, wave in zip(self._coarse, block.own.T, strict=True):
            values.feed(wave)
        self._heard = block.stop

    def findings(self) -> list[Finding]:
        """Return the stretches in which ticks are dense."""
        rate = self._format.rate
        found = _joined(self._ticks)
        alone = np.diff(found.frames, prepend=-rate) > _ONE_TICK_SECONDS * rate
        frames, periodic = found.frames[alone], found.periodic[alone]
        borders = np.flatnonzero(np.diff(frames) > _LONGEST_GAP_SECONDS * rate) + 1
        findings = []
        for stretch, again in zip(np.split(frames, borders), np.split(periodic, borders), strict=True):
            if len(stretch) < _FEWEST_TICKS or stretch[-1] - stretch[0] < _SHORTEST_SECONDS * rate:
                continue
            per_second = len(stretch) * rate / (int(stretch[-1]) + 1 - int(stretch[0]))
            # A tick is told by the millisecond in which it is loudest.
            one = round(_ONE_TICK_SECONDS * rate)
            start, stop = max(0, int(stretch[0]) - one // 2), min(self._heard, int(stretch[-1]) + one)
            doubt = 4 * np.log2(per_second / _HALF_SURE_PER_SECOND) + (len(stretch) - _FEWEST_TICKS) / 4
            regular = max(_regularity(stretch) - _REGULAR, _next_regularity(stretch) - _NEXT_REGULAR)
            doubt = min(doubt, _SUREST) - _PENALTY * max(0.0, regular, float(np.median(again)) - _PERIODIC)
            confidence = float(1 / (1 + np.exp(-doubt)))
            is_short, is_brief = (stop - start < seconds * rate for seconds in (_SHORT_SECONDS, _BRIEF_SECONDS))
            if is_short and per_second < (_DENSE_IF_BRIEF_PER_SECOND if is_brief else _DENSE_PER_SECOND):
                confidence = min(confidence, _MOST_IF_SHORT)
            if is_short and (per_second < _SPARSE_PER_SECOND or len(stretch) < _FEWEST_IF_SHORT):
                confidence = min(confidence, _MOST_IF_SHORT_AND_SPARSE)
            if any(values.are_few for values in self._coarse):
                confidence = min(confidence, _MOST_IF_COARSE)
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


def ticks(block: Block) -> Ticks:
    """Return a block's ticks, of all channels."""
    found = _joined([_ticks(block, residual) for residual in block.shared(residuals)])
    frames, first = np.unique(found.frames, return_index=True)
    return Ticks(frames, found.periodic[first])


def _joined(parts: list[Ticks]) -> Ticks:
    if not parts:
        return Ticks(np.zeros(0, np.int64), np.zeros(0, np.float32))
    return Ticks(*(np.concatenate(arrays) for arrays in zip(*parts, strict=True)))


def _ticks(block: Block, residual: Residual) -> Ticks:
    """Return a channel's ticks."""
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
    at = (rows + MARGIN_SEGMENTS) * bins.shape[1] + columns
    at = at[~_are_ends(residual.wave, at * size, block.rate)]
    frames = np.asarray(residual.first + at * size + size // 2, np.int64)
    return Ticks(frames, _periodic(residual.peaks, at, block.rate / size))


def _are_ends(wave: Floats, at: Integers, rate: int) -> npt.NDArray[np.bool_]:
    """Return which places have sound on one side and next to none on the other: there it begins or ends."""
    apart, beside = round(_APART_SECONDS * rate), round(_BESIDE_SECONDS * rate)
    size = np.pad(np.abs(wave), apart + beside)
    views = np.lib.stride_tricks.sliding_window_view(size, beside)
    before, after = views[at].max(axis=1), views[at + 2 * apart + beside].max(axis=1)
    return np.minimum(before, after) <= np.float32(10 ** (_NEXT_TO_NONE_DB / 20)) * np.maximum(before, after)


def _periodic(bins: Floats, at: Integers, bins_per_second: float) -> Floats:
    """Return for ticks at some bins how alike the bins around are to themselves a pitch cycle later, 0 to 1.

    References
    ----------
    The autocorrelation of what prediction leaves, for the lag at which it is highest (J. D. Markel, 1972).
    """
    shortest, longest = (round(s * bins_per_second) for s in (_SHORTEST_SECONDS_APART, _LONGEST_SECONDS_APART))
    width = 2 * _AROUND_BINS + 1
    lags = np.arange(shortest, longest + 1)
    periodic = np.zeros(len(at), np.float32)
    padded = np.pad(bins, _AROUND_BINS)
    views = np.lib.stride_tricks.sliding_window_view(padded, width)
    for first in range(0, len(at), _AT_ONCE):
        some = slice(first, first + _AT_ONCE)
        rows = views[at[some]]
        rows = np.maximum(rows / np.maximum(np.median(rows, axis=1, keepdims=True), 1e-9) - 1, 0)
        # What is higher than the tick itself says no more than another as high.
        rows = np.minimum(rows, rows[:, _AROUND_BINS, np.newaxis])
        size = next_fast_len(width + longest + 1, real=True)
        products = irfft(np.square(np.abs(rfft(rows, size, axis=1))), size, axis=1)
        # A cycle is hardly ever a whole number of bins.
        again = (products[:, lags - 1] + products[:, lags] + products[:, lags + 1]) * (width / (width - lags))
        itself = products[:, :1] + 2 * products[:, 1:2]
        periodic[some] = (again / np.maximum(itself, 1e-9)).max(axis=1, initial=0.0)
    return periodic


KIND = Kind(
    name="crackle",
    title="Crackle",
    family=Family.IMPULSES,
    summary="stretches with many small ticks",
    make=CrackleDetector,
    needs=(ticks,),
)
