"""Dropouts: holes of up to half a second inside sound, digital or nearly so, with abrupt edges on both sides.

No published detector is followed. Natural sound dies away over many milliseconds, and no wave above 25 Hz stays within
18 dB of zero for two milliseconds beside its own peaks: where the level falls so far within two milliseconds and
comes back as fast, sound is missing, unless it was meant to be so (see :mod:`rests`). Shorter holes are seen where one
value is held in mid-wave. Packets that were lost and concealed leave no hole (see :mod:`concealment`).
"""

from __future__ import annotations

from bisect import bisect_left
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.holes.remnants import unlike_beside_db
from umbrick.core.survey.holes.rests import BESIDE_SECONDS, confidences, measured, missing_odds
from umbrick.core.survey.levels.outline import Outline, decibels, levels_of, outline
from umbrick.core.survey.packets.concealment import Concealed, ConcealedPackets
from umbrick.core.survey.packets.line_features import line_features
from umbrick.core.survey.tops.coarse_values import CoarseValues
from umbrick.core.survey.tops.flat_tops import grid_step
from umbrick.core.units import amplitude_to_db, format_count

_BIN_SECONDS = 0.00067
_OUTSIDE_SECONDS, _INSIDE_SECONDS = 0.006, 0.002
_LONGEST_SECONDS = 0.5
_LEAST_FALL_DB = 14.0
_HALF_SURE_FALL_DB = 18.0
_SHORT_FALL_DB, _SHORT_MS = 45.0, 2.2
"""Between two pulses of a voice there may be a short valley: the shorter, the deeper a hole must be."""

_LEAST_USUAL = 2.5
_HALF_SURE_EDGE_DB, _MOST_EDGE = 10.0, 5.0
_DEEP_DB, _MOST_IF_SHALLOW = 40.0, 0.7
_HALF_SURE_UNLIKE_DB, _STILL_SOUNDING_DB, _SOUNDING_STEPS = 24.0, 60.0, 8
_LEAST_REMNANT_ODDS = -4.0
_FLOOR_PERCENTILE, _OVER_FLOOR_DB = 5, 4.0
"""What still holds sound may be lips that closed, or a moment between two drops of rain: listed, but not mended
unasked. What was lost but for a remnant is the same sound at both edges, but fainter, or the noise that never ends."""

_LEAST_EDGE_DB, _GENTLE_SECONDS = 16.0, 0.004
_LEAST_LEVEL = 0.0006
_FEWEST_HELD = 6
_SHORTEST_HELD_SECONDS, _SHORTEST_COARSE_SECONDS = 0.0002, 0.002
_LONGEST_TURN_SECONDS, _LEAST_COARSE, _MOST_DIFFERENT = 0.0015, 0.02, 0.75
_NEARBY, _MOST_STEPS = 12, 1.5
_GENTLE_STEPS = 2
"""A slow wave comes to rest between two values of its grid; from there it goes on by such steps."""

_LEAST_COARSE_STEPS = 12
"""What swings by less beside it, coarse values round to nothing for a while."""

_COARSER = 2
"""The steps of eight bits are no even ones: the wave may take so many at once."""

_MOST_DIFFERENCE_DB = 20.0
"""Sound of another level after a hole than before it was likely meant to be so."""

_SHORTEST_REST_SECONDS = 0.01
_LEAST_CONFIDENCE, _HALF_SURE = 0.05, 0.5


class _Hole(NamedTuple):
    """Frames without sound; how sure that is, how deep it is, and what tells it from a rest."""

    start: int
    stop: int
    channels: tuple[int, ...]
    confidence: float
    depth_db: float
    measures: dict[str, float]
    remnant_odds: float
    """The log likelihood that what still sounds in it is what sounds beside it; 0 if nothing does."""
    within_db: float


class DropoutDetector:
    """Finds holes block by block, in every channel."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._bin = max(4, round(_BIN_SECONDS * form.rate))
        self._tails = [np.zeros(0, np.float32) for _ in range(form.channels)]
        self._coarse = [CoarseValues() for _ in range(form.channels)]
        self._missing: list[_Hole] = []
        self._rests = 0
        self._concealed = ConcealedPackets(form)
        self._outlines: list[Outline] = []
        self._step = form.step

    def feed(self, block: Block) -> None:
        """Find the holes that end in the block; those that begin before it too, with what was kept of it."""
        rate = self._format.rate
        # What a coder of thirteen bits gave rests on its values for longer than a file of sixteen tells.
        self._step = max(self._step, grid_step(block.samples))
        beside = round(BESIDE_SECONDS * rate)
        reach = round(_LONGEST_SECONDS * rate) + beside
        stop = block.before + block.stop - block.start
        found: list[_Hole] = []
        for channel, tail in enumerate(self._tails):
            wave = np.concatenate([tail, block.samples[block.before : stop + beside, channel]])
            first = block.start - len(tail)
            self._coarse[channel].feed(wave)
            own = slice(len(tail), len(tail) + block.stop - block.start)
            for start, end, confidence, depth_db in self._holes(wave, own, self._coarse[channel]):
                if own.start <= end < own.stop and confidence >= _LEAST_CONFIDENCE:
                    before = wave[max(0, start - beside) : start].astype(np.float64)
                    after = wave[end : end + beside].astype(np.float64)
                    measures = measured(before, after, end - start, rate)
                    remnant = self._remnant_odds(wave, start, end) if depth_db < _STILL_SOUNDING_DB else 0.0
                    within_db = float(decibels(np.mean(np.square(wave[start:end], dtype=np.float64))))
                    hole = (first + start, first + end, (channel,), confidence, depth_db, measures, remnant, within_db)
                    found.append(_Hole(*hole))
            self._tails[channel] = wave[: own.stop][-reach:]
        self._missing += _together(found)
        self._concealed.feed(block)
        self._outlines.append(block.shared(outline))

    def findings(self) -> list[Finding]:
        """Return the holes found so far, and the packets that a line concealed."""
        holes = self._holes_found()
        taken = [hole for hole in holes if hole.confidence >= _HALF_SURE]
        reached = np.maximum.accumulate([hole.stop for hole in taken]) if taken else np.zeros(0, np.int64)
        starts = [hole.start for hole in taken]
        made_up = []
        for concealed in self._concealed.found():
            before = bisect_left(starts, concealed.stop)
            if concealed.confidence >= _LEAST_CONFIDENCE and not (before and reached[before - 1] > concealed.start):
                made_up.append(self._concealed_finding(concealed))
        return sorted([*holes, *made_up], key=lambda finding: finding.start)

    def _holes_found(self) -> list[Finding]:
        missing = sorted(self._missing, key=lambda one: (one.start, one.stop))
        levels_db = levels_of(self._outlines)
        floor_db = float(np.percentile(levels_db, _FLOOR_PERCENTILE)) if len(levels_db) else -np.inf
        missing = [
            one._replace(remnant_odds=0.0) if one.within_db <= floor_db + _OVER_FLOOR_DB else one for one in missing
        ]
        sure = confidences(
            [one.start for one in missing],
            [one.stop for one in missing],
            [missing_odds(one.measures) + one.remnant_odds for one in missing],
            [one.confidence for one in missing],
            min(self._rests, round(sum(one.confidence for one in missing))),
            self._format.rate,
        )
        found = ((one, one.confidence * share, share) for one, share in zip(missing, sure, strict=True))
        return [
            self._finding(one, max(confidence, _LEAST_CONFIDENCE), share)
            for one, confidence, share in found
            if confidence >= _LEAST_CONFIDENCE or one.confidence >= _HALF_SURE
        ]

    def measured(self) -> list[tuple[int, int, dict[str, float]]]:
        """Return start and stop of every hole, and what tells it from a rest."""
        return [(one.start, one.stop, one.measures) for one in self._missing]

    def _holes(
        self, wave: npt.NDArray[np.float32], own: slice, coarse: CoarseValues
    ) -> list[tuple[int, int, float, float]]:
        """Return start, end, confidence and depth in dB of every hole in a wave; count the rests of its own part."""
        holes = self._held(wave, own, coarse)
        taken = [(start, end) for start, end, *_ in holes]
        fallen = self._fallen(wave, _LEAST_COARSE_STEPS * float(coarse.step_at(np.zeros((), np.float32))))
        holes += [hole for hole in fallen if all(hole[1] <= a or hole[0] >= b for a, b in taken)]
        return holes

    def _held(
        self, wave: npt.NDArray[np.float32], own: slice, coarse: CoarseValues
    ) -> list[tuple[int, int, float, float]]:
        """Return the stretches in which one value is held although there is sound on both sides."""
        rate = self._format.rate
        same = np.diff(wave) == 0
        edges = np.flatnonzero(np.diff(same, prepend=False, append=False))
        starts, ends = edges[::2], edges[1::2] + 1
        # Where there are few values, a wave stays on one of them for longer.
        shortest_seconds = _SHORTEST_COARSE_SECONDS if coarse.are_few else _SHORTEST_HELD_SECONDS
        long = ends - starts >= max(_FEWEST_HELD, round(shortest_seconds * rate))
        holes = []
        outside = round(_OUTSIDE_SECONDS * rate)
        for start, end in zip(starts[long].tolist(), ends[long].tolist(), strict=True):
            value = float(wave[start])
            # The first of equal values is the last that belongs to the sound, unless it jumped there.
            before, after = wave[max(0, start - outside) : start], wave[end : end + outside]
            # Silence that goes on for long or begins and ends gently is what this recording has in its pauses.
            is_rest = value == 0 and end - start >= _SHORTEST_REST_SECONDS * rate and own.start <= end < own.stop
            if end - start > _LONGEST_SECONDS * rate:
                self._rests += is_rest
                continue
            if len(before) < outside // 2 or len(after) < outside // 2:
                continue
            level = min(float(np.abs(before - value).max()), float(np.abs(after - value).max()))
            coarse_step = float(coarse.step_at(wave[start]))
            if level < max(_LEAST_LEVEL, 40 * self._step, _LEAST_COARSE_STEPS * coarse_step):
                continue
            step = max(self._step, _COARSER * coarse_step)
            if max(abs(float(before[-1]) - value), abs(float(after[0]) - value)) <= _GENTLE_STEPS * step:
                self._rests += is_rest
                continue
            around = np.concatenate([before, after])
            is_top = value != 0 and (value >= 0.98 * around.max() or value <= 0.98 * around.min())
            if is_top and end - start < 0.004 * rate:
                continue  # cut off, not missing
            slope = np.abs(np.diff(around))
            is_short = value != 0 and end - start < _LONGEST_TURN_SECONDS * rate
            if is_short and level > _LEAST_COARSE and _just_rests(before, value, after):
                continue
            # How many samples the wave takes to move by what it does not move here.
            expected = (end - start) * float(np.median(slope))
            evidence = expected / max(0.02 * level, 2 * self._step)
            confidence = float(1 - np.exp(-evidence / 3)) * min(1.0, (end - start) / (0.0006 * rate)) ** 0.3
            # Where a quiet wave is rounded or gated to zero it stops there gently.
            if value == 0 and end - start < _GENTLE_SECONDS * rate:
                edge_db = _edge_db(wave, start, end, round(0.003 * rate))
                confidence /= 1 + float(np.exp((_LEAST_EDGE_DB - edge_db) / 1.5))
            first = start if value == 0 else start + 1
            holes.append((first, end, confidence, float(np.clip(amplitude_to_db(level), -120, 0)) + 120))
        return holes

    def _fallen(self, wave: npt.NDArray[np.float32], least_level: float) -> list[tuple[int, int, float, float]]:
        """Return the stretches into which the level falls from at least that level, and out of which it rises, at
        once."""
        size, rate = self._bin, self._format.rate
        count = len(wave) // size
        peaks = np.abs(wave[: count * size]).reshape(count, size).max(axis=1)
        out, inside = round(_OUTSIDE_SECONDS * rate / size), max(2, round(_INSIDE_SECONDS * rate / size))
        if count < 2 * (out + inside):
            return []
        floor = max(_LEAST_LEVEL / 100, self._format.step / 4)
        outer = maximum_filter1d(peaks, out, origin=-(out // 2))[: count - out + 1]
        inner = np.maximum(maximum_filter1d(peaks, inside, origin=-(inside // 2))[: count - inside + 1], floor)
        # A border before bin b, with one bin on it left out: outer ends at b, inner begins at b + 1.
        border = np.arange(out, count - inside - 1)
        falls = outer[border - out] / inner[border + 1]
        border_up = np.arange(inside, count - out - 1)
        rises = outer[border_up + 1] / inner[border_up - inside]
        least, least_level = 10 ** (_LEAST_FALL_DB / 20), max(_LEAST_LEVEL, least_level)
        down = border[(falls >= least) & (outer[border - out] >= least_level)]
        up = border_up[(rises >= least) & (outer[border_up + 1] >= least_level)]
        if not len(down) or not len(up):
            return []
        holes: list[tuple[int, int, float, float]] = []
        last_end = -1
        # Of neighbouring borders the outermost are where the sound stops, and where it is there again.
        up = up[np.flatnonzero(np.diff(up, append=up[-1] + 10) > 1)]
        down = down[np.flatnonzero(np.diff(down, prepend=-10) > 1)]
        nearest = np.searchsorted(up, down, "right").tolist()
        furthest = np.searchsorted(up, down + _LONGEST_SECONDS * rate / size, "right").tolist()
        for fall, first, stop in zip(down.tolist(), nearest, furthest, strict=True):
            if fall * size < last_end:
                continue
            # What rises within the hole does not rise to where the sound was.
            least_after = float(outer[fall - out]) * 10 ** (-_MOST_DIFFERENCE_DB / 20)
            rise = next((at for at in up[first:stop].tolist() if outer[at + 1] >= least_after), None)
            hole = self._measured(wave, peaks, fall, rise, out) if rise is not None else None
            if hole is not None:
                holes.append(hole)
                last_end = hole[1]
        return holes

    def _measured(
        self, wave: npt.NDArray[np.float32], peaks: npt.NDArray[np.float32], fall: int, rise: int, out: int
    ) -> tuple[int, int, float, float] | None:
        """Return a hole between two borders, to the sample, or None if it is none."""
        size = self._bin
        # An edge may lie in the bin beside its border.
        spare = 1 if rise - fall > 5 else 0
        core = peaks[fall + 1 + spare : max(fall + 2, rise - spare)]
        within = max(float(core.max()), 1e-9)
        before, after = float(peaks[fall - out : fall].max()), float(peaks[rise + 1 : rise + 1 + out].max())
        if min(before, after) < within * 10 ** (_LEAST_FALL_DB / 20):
            return None
        depth_db = amplitude_to_db(min(before, after)) - amplitude_to_db(max(within, 1e-6))
        difference_db = abs(amplitude_to_db(before) - amplitude_to_db(after))
        if difference_db > _MOST_DIFFERENCE_DB:
            return None
        # Two clicks in a pause are no sound with a hole between: on both sides most of it must be loud.
        beside_bins = peaks[fall - out : fall], peaks[rise + 1 : rise + 1 + out]
        if min(float(np.sort(side)[out // 2]) for side in beside_bins) < _LEAST_USUAL * within:
            return None
        limit = 1.5 * within
        reach = slice((fall - out) * size, (fall + 2) * size)
        loud = np.flatnonzero(np.abs(wave[reach]) > limit)
        start = reach.start + int(loud[-1]) + 1 if len(loud) else fall * size
        reach = slice(max(start, (rise - 1) * size), (rise + 1 + out) * size)
        loud = np.flatnonzero(np.abs(wave[reach]) > limit)
        end = reach.start + int(loud[0]) if len(loud) else rise * size
        if end - start < 0.0015 * self._format.rate:
            return None
        # The level of the last and first two milliseconds beside it: sound that had nearly died away leaves no hole.
        beside = round(0.003 * self._format.rate)
        close = min(float(np.abs(wave[max(0, start - beside) : start]).max(initial=0.0)),
                    float(np.abs(wave[end : end + beside]).max(initial=0.0)))  # fmt: skip
        close_db = amplitude_to_db(max(close, 1e-9)) - amplitude_to_db(max(within, 1e-6))
        milliseconds = 1e3 * (end - start) / self._format.rate
        half_sure_db = _HALF_SURE_FALL_DB + _SHORT_FALL_DB * np.exp(-(milliseconds - 1.5) / _SHORT_MS)
        doubt = (min(depth_db, close_db) - half_sure_db) / 2.5 - max(0.0, difference_db - 8) / 4
        if doubt < -_MOST_EDGE - 3:
            return None
        edge = float(np.clip((_edge_db(wave, start, end, beside) - _HALF_SURE_EDGE_DB) / 2, -3, _MOST_EDGE))
        # However sharp its edges, what is hardly quieter is no hole.
        doubt += edge * (float(np.clip((depth_db - 16) / 4, 0, 1)) if edge > 0 else 1.0)
        confidence = float(1 / (1 + np.exp(-doubt)))
        return start, end, confidence if depth_db >= _DEEP_DB else min(confidence, _MOST_IF_SHALLOW), depth_db

    def _remnant_odds(self, wave: npt.NDArray[np.float32], start: int, stop: int) -> float:
        within = wave[start:stop]
        if np.abs(within - within.mean()).max(initial=0.0) < _SOUNDING_STEPS * self._step:
            return 0.0  # nothing but rounding, or dither
        unlike_db = unlike_beside_db(wave, start, stop, self._format.rate)
        return max(-float(np.logaddexp(0.0, unlike_db - _HALF_SURE_UNLIKE_DB)), _LEAST_REMNANT_ODDS)

    def _finding(self, missing: _Hole, confidence: float, no_rest: float) -> Finding:
        frames, channels = missing.stop - missing.start, missing.channels
        milliseconds = 1e3 * frames / self._format.rate
        many = self._format.channels > 1
        where = "" if not many else ", all channels" if len(channels) == self._format.channels else ", one channel"
        length = f"{milliseconds:.1f} ms" if milliseconds >= 1 else format_count(frames, "sample")
        is_rest = no_rest < _HALF_SURE <= missing.confidence
        return Finding(
            id="",
            kind="dropout",
            start=missing.start,
            stop=missing.stop,
            channels=channels,
            severity=round(float(1 - np.exp(-milliseconds / 15)), 3),
            confidence=round(confidence, 3),
            evidence=f"{length} without signal, {missing.depth_db:.0f} dB below what is beside it{where}"
            + ("; perhaps a rest" if is_rest else ""),
            detail={"length_ms": round(milliseconds, 3), "depth_db": round(missing.depth_db, 1)}
            | ({"rest": True} if is_rest else {}),
        )

    def _concealed_finding(self, concealed: Concealed) -> Finding:
        milliseconds = 1e3 * (concealed.stop - concealed.start) / self._format.rate
        return Finding(
            id="",
            kind="dropout",
            start=concealed.start,
            stop=concealed.stop,
            channels=tuple(range(self._format.channels)),
            severity=round(float(1 - np.exp(-milliseconds / 60)), 3),
            confidence=round(concealed.confidence, 3),
            evidence=f"{milliseconds:.0f} ms made up by the line: a packet was lost and the last cycles were held",
            detail={"length_ms": round(milliseconds, 3), "concealed": True},
        )


def _together(found: list[_Hole]) -> list[_Hole]:
    """Return holes, those at one place in several channels as one."""
    groups: list[list[_Hole]] = []
    for hole in sorted(found, key=lambda hole: (hole.start, hole.stop, hole.channels)):
        group = next((g for g in groups[-8:] if _is_one(g[0], hole)), None)
        if group is None:
            groups.append([hole])
        else:
            group.append(hole)
    return [
        _Hole(
            min(hole.start for hole in group),
            max(hole.stop for hole in group),
            tuple(sorted({channel for hole in group for channel in hole.channels})),
            max(hole.confidence for hole in group),
            group[0].depth_db,
            {name: float(np.mean([hole.measures[name] for hole in group])) for name in group[0].measures},
            max(hole.remnant_odds for hole in group),
            min(hole.within_db for hole in group),
        )
        for group in groups
    ]


def _edge_db(wave: npt.NDArray[np.float32], start: int, end: int, beside: int) -> float:
    """Return how much faster the wave moves at a hole's edges than beside it, in dB: by the third difference."""
    sizes = []
    for at, outside in ((start, slice(start - beside, start - 4)), (end, slice(end + 4, end + beside))):
        at_edge = np.abs(np.diff(wave[max(0, at - 4) : at + 4], 3)).max(initial=0.0)
        usual = np.sort(np.abs(np.diff(wave[max(0, outside.start) : outside.stop], 3)))
        middle = float(usual[len(usual) // 2]) if len(usual) else float(at_edge)
        sizes.append(20 * np.log10((at_edge + 1e-9) / (middle + 1e-9)))
    return float(np.mean(sizes))


def _is_one(one: _Hole, other: _Hole) -> bool:
    overlap = min(one.stop, other.stop) - max(one.start, other.start)
    return one.channels != other.channels and overlap > 0.8 * min(one.stop - one.start, other.stop - other.start)


def _just_rests(before: npt.NDArray[np.float32], value: float, after: npt.NDArray[np.float32]) -> bool:
    """Whether a wave of coarse values, most of which come again nearby, comes to one and leaves it by single steps."""
    around = np.concatenate([before, after])
    if len(np.unique(around)) > _MOST_DIFFERENT * len(around):
        return False
    steps = np.abs(np.concatenate([np.diff(before[-_NEARBY:]), np.diff(after[:_NEARBY])]))
    edge = max(abs(float(before[-1]) - value), abs(float(after[0]) - value))
    return bool((steps > 0).any() and edge <= _MOST_STEPS * float(np.median(steps[steps > 0])))


KIND = Kind(
    name="dropout",
    title="Dropouts",
    family=Family.GAPS,
    summary="holes of up to half a second inside sound",
    make=DropoutDetector,
    needs=(line_features, outline),
)
