"""Stutter: sound that comes again at once, as a buffer or a poor line leaves it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.fine_bands import Floats, fine_bands, hop_frames
from umbrick.core.survey.levels.outline import Outline, decibels, levels_of, loud_db, outline
from umbrick.core.survey.levels.voice_likeness import may_be_voice
from umbrick.core.survey.packets.line_features import FEATURES, line_features
from umbrick.core.survey.repeats.held_cycles import Held, held_cycles
from umbrick.core.survey.repeats.loops import are_echoes, has_own_ends, in_time, is_tone
from umbrick.core.survey.repeats.near_repeats import NearRepeat, near_repeat, suspects
from umbrick.core.survey.repeats.repeats import exact_repeats
from umbrick.core.survey.repeats.restarts import Restart, hops_of_a_row, pattern, restarts

_LONGEST_LAG_SECONDS = 0.5
_SHORTEST_SECONDS = 0.006
_HALF_SURE_ALIKE_DB, _HALF_SURE_OVER_DB = 45.0, 12.5
"""How alike the turns of a held cycle are, and how much more alike than the sound beside it, to be half sure: vowels of
a speech synthesizer come to 40 dB, a chip's notes to 44, and what a line holds is rarely under 50."""

_OFTEN_STEADY, _MOST_IF_OFTEN = 0.1, 0.4
"""Where so much of all that sounds is as steady, it is an instrument's tones."""

_MOST_FOR_A_RESTART = 0.4
"""What a speaker begins again is listed as doubtful, however alike: only an ear can tell."""

_MOST_FOR_A_LOOP, _LOOP_MS, _LOOP_TURNS = 0.4, 250.0, 4.0
"""A note that comes again from end to end, or after something else, is likely meant to; and what is so long and comes
so often: a line's buffers are shorter, as are the turns of a disc that skips."""

_QUIETER_DB = 41.0
"""What comes again so far below the loud passages is what a coder made of a pause, or its silence."""

_HALF_SURE_NEAR_DB, _HALF_SURE_NEAR_OVER_DB, _HALF_SURE_BOTH_DB = 13.0, 4.5, 23.0
"""How alike a repeat that is not exact is to what it repeats, how much more than to all else nearby, and both together,
to be half sure: notes of one melody are hardly so."""

_FADED_DB = 12.0
"""What comes again so much fainter or louder is an echo, or what a noise is made of."""

_LATER_SECONDS = 0.2
"""So much sound after a place is needed to judge it."""

_LONGEST_HELD_MS = 130.0
_TONE_LAG_SECONDS, _TONE_TURNS = 0.01, 6


class _Repeated(NamedTuple):
    """Frames that are those ``lag`` frames earlier, their level, and whether they begin and end by themselves."""

    start: int
    stop: int
    lag: int
    level_db: float
    is_apart: bool


class StutterDetector:
    """Looks for exact repeats and held cycles block by block."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._tail = np.zeros(0, np.float32)
        self._repeats: list[_Repeated] = []
        self._held: list[Held] = []
        self._loud, self._steady = 0, 0
        self._rows: Floats = np.zeros((0, FEATURES), np.float32)
        self._near: list[NearRepeat] = []
        self._end = 0
        self._hops = hops_of_a_row(hop_frames(form.rate), form.rate)
        self._pattern: list[Floats] = []
        self._outlines: list[Outline] = []

    def feed(self, block: Block) -> None:
        """Look at a block, with the second before it."""
        rate = self._format.rate
        own = block.mono[block.before : block.before + block.stop - block.start]
        wave = np.concatenate([self._tail, own])
        first = block.start - len(self._tail)
        shortest = max(64, round(_SHORTEST_SECONDS * rate))
        for start, stop, lag in exact_repeats(wave, round(_LONGEST_LAG_SECONDS * rate), shortest):
            level_db = float(decibels(np.mean(np.square(wave[start:stop], dtype=np.float64))))
            if is_tone(wave, start, stop, lag, rate):
                continue
            is_apart = has_own_ends(wave, start, stop, rate)
            moved = _Repeated(first + start, first + stop, lag, level_db, is_apart)
            last = self._repeats[-1] if self._repeats else None
            if last and moved.start <= last.stop and moved.lag == last.lag:
                self._repeats[-1] = last._replace(stop=moved.stop, level_db=max(last.level_db, level_db))
            elif moved.stop > block.start and (last is None or moved.start >= last.stop):
                self._repeats.append(moved)
        hop, later = hop_frames(rate), round(_LATER_SECONDS * rate)
        self._rows = np.concatenate([self._rows, block.shared(line_features)])
        self._near += self._near_repeats(wave, first, block.start - later, block.stop - later)
        self._tail = wave[-round(2 * _LONGEST_LAG_SECONDS * rate) :].copy()
        self._rows = self._rows[-(len(self._tail) // hop + 1) :].copy()
        self._end = block.stop
        held = block.shared(held_cycles)
        self._held += held.found
        self._loud += held.loud
        self._steady += held.steady
        self._pattern.append(pattern(block.shared(fine_bands), self._hops))
        self._outlines.append(block.shared(outline))

    def _near_repeats(self, wave: Floats, first: int, start: int, stop: int) -> list[NearRepeat]:
        """Return the repeats that are not exact, seen from ``start`` to ``stop``; the wave begins at ``first``."""
        rate, hop = self._format.rate, hop_frames(self._format.rate)
        begin = (-(-(first + len(wave)) // hop) - len(self._rows)) * hop
        found: list[NearRepeat] = []
        for row, lag in suspects(self._rows, hop, rate):
            at = begin + row * hop
            repeat = near_repeat(wave, at - first, lag * hop, rate) if start <= at < stop else None
            if repeat is not None:
                found.append(repeat._replace(start=first + repeat.start, stop=first + repeat.stop))
        return found

    def findings(self) -> list[Finding]:
        """Return the repeats and held cycles found so far, and as doubtful what a speaker may have begun again."""
        rate = self._format.rate
        usual_db = loud_db(levels_of(self._outlines))
        late = self._near_repeats(
            self._tail, self._end - len(self._tail), self._end - round(_LATER_SECONDS * rate), self._end
        )
        nearly = [*self._near, *late]
        repeats = [(one.start, one.lag) for one in self._repeats] + [(one.start, one.lag) for one in nearly]
        meant = in_time(repeats, rate)
        exact = [
            one._replace(is_apart=one.is_apart or is_meant)
            for one, is_meant in zip(self._repeats, meant[: len(self._repeats)], strict=True)
        ]
        echoes = are_echoes([one.lag for one in nearly], [_level_db(one) for one in nearly], rate)
        nearly = [
            one._replace(is_apart=one.is_apart or is_meant or is_echo)
            for one, is_meant, is_echo in zip(nearly, meant[len(self._repeats) :], echoes, strict=True)
        ]
        findings = [self._repeated(repeat, usual_db) for repeat in exact if not self._is_tone(repeat)]
        findings = [finding for finding in findings if finding.confidence >= 0.05]
        taken = [(finding.start, finding.stop) for finding in findings]
        for held in self._held:
            if (held.stop - held.start) / rate < 0.4 and not any(a < held.stop and b > held.start for a, b in taken):
                finding = self._held_finding(held)
                if finding.confidence >= 0.05:
                    findings.append(finding)
        taken = [(finding.start, finding.stop) for finding in findings]
        for near in nearly:
            finding = self._near_finding(near)
            if finding.confidence >= 0.05 and not any(a < near.stop and b > near.start for a, b in taken):
                findings.append(finding)
                taken.append((near.start, near.stop))
        findings += [
            restart for restart in self._restarts() if not any(a < restart.stop and b > restart.start for a, b in taken)
        ]
        return sorted(findings, key=lambda finding: finding.start)

    def _restarts(self) -> list[Finding]:
        if not self._pattern or not may_be_voice(self._outlines):
            return []
        frames = self._hops * hop_frames(self._format.rate)
        found = restarts(np.concatenate(self._pattern), frames, self._format.rate)
        return [self._restarted(restart, frames) for restart in found]

    def _restarted(self, restart: Restart, frames: int) -> Finding:
        length, lag = (rows * frames * 1e3 / self._format.rate for rows in (restart.stop - restart.start, restart.lag))
        return Finding(
            id="",
            kind="stutter",
            start=restart.start * frames,
            stop=restart.stop * frames,
            channels=tuple(range(self._format.channels)),
            severity=round(float(1 - np.exp(-length / 300)), 3),
            confidence=round(_MOST_FOR_A_RESTART * restart.likeness, 3),
            evidence=f"like the {lag:.0f} ms before, but spoken anew: the speaker may have started over",
            detail={"lag": restart.lag * frames, "similarity": round(restart.likeness, 3),
                    "length_ms": round(length, 1), "restart": True},
        )  # fmt: skip

    def _is_tone(self, repeat: _Repeated) -> bool:
        """Whether it is a synthetic tone: a short period, again and again."""
        turns = (repeat.stop - repeat.start) / repeat.lag
        return repeat.lag < _TONE_LAG_SECONDS * self._format.rate and turns > _TONE_TURNS

    def _repeated(self, repeat: _Repeated, usual_db: float) -> Finding:
        length, lag = self._milliseconds(repeat)
        # A loop that goes round is whole bars long; what comes again in part of its lag may be meant.
        confidence = 0.99 if length >= 0.9 * lag else _MOST_FOR_A_LOOP * length / lag
        if repeat.is_apart or (lag >= _LOOP_MS and length >= _LOOP_TURNS * lag):
            confidence = min(confidence, _MOST_FOR_A_LOOP)
        confidence *= _sure((repeat.level_db - usual_db + _QUIETER_DB) / 2)
        words = f"repeats the previous {lag:.0f} ms sample for sample, for {length:.0f} ms"
        return self._finding(repeat, confidence, 1.0, words, exact=True)

    def _near_finding(self, near: NearRepeat) -> Finding:
        length, lag = self._milliseconds(near)
        similarity = _similarity(near.alike_db)
        confidence = 0.95 * _sure((near.alike_db - _HALF_SURE_NEAR_DB) / 1.0)
        confidence *= _sure((near.over_db - _HALF_SURE_NEAR_OVER_DB) / 0.5)
        confidence *= _sure((near.alike_db + near.over_db - _HALF_SURE_BOTH_DB) / 0.5)
        if near.is_apart:
            confidence = min(confidence, _MOST_FOR_A_LOOP)
        level_db = _level_db(near)
        if abs(level_db) > _FADED_DB:
            confidence = min(confidence, _MOST_FOR_A_LOOP)
        words = f"repeats the previous {lag:.0f} ms for {length:.0f} ms, {100 * similarity:.1f} % alike"
        if abs(level_db) >= 1:
            words += f", {abs(level_db):.0f} dB {'quieter' if level_db < 0 else 'louder'}"
        return self._finding(near, confidence, similarity, words, gain_db=round(level_db, 1))

    def _held_finding(self, held: Held) -> Finding:
        length, lag = self._milliseconds(held)
        similarity = _similarity(held.alike_db)
        confidence = 0.95 * _sure((held.alike_db - _HALF_SURE_ALIKE_DB) / 1.5)
        confidence *= _sure((held.over_db - _HALF_SURE_OVER_DB) / 1.5) * _sure((_LONGEST_HELD_MS - length) / 8)
        if self._steady > _OFTEN_STEADY * self._loud:
            confidence = min(confidence, _MOST_IF_OFTEN)
        words = f"one cycle of {lag:.1f} ms held for {length:.0f} ms, its turns {100 * similarity:.2f} % alike"
        alike = {"alike_db": round(held.alike_db, 1), "over_db": round(held.over_db, 1)}
        return self._finding(held, confidence, similarity, words, **alike)

    def _milliseconds(self, again: _Repeated | NearRepeat | Held) -> tuple[float, float]:
        """Return how long what comes again is, and after how long it does."""
        return 1e3 * (again.stop - again.start) / self._format.rate, 1e3 * again.lag / self._format.rate

    def _finding(
        self, again: _Repeated | NearRepeat | Held, confidence: float, similarity: float, evidence: str, **detail: float
    ) -> Finding:
        length, _ = self._milliseconds(again)
        return Finding(
            id="",
            kind="stutter",
            start=again.start,
            stop=again.stop,
            channels=tuple(range(self._format.channels)),
            severity=round(float(1 - np.exp(-length / 60)), 3),
            confidence=round(confidence, 3),
            evidence=evidence,
            detail={"lag": again.lag, "similarity": round(similarity, 5), "length_ms": round(length, 2), **detail},
        )


def _level_db(near: NearRepeat) -> float:
    """Return how much louder a repeat is than what it repeats."""
    return 20 * float(np.log10(max(near.gain, 1e-3)))


def _similarity(alike_db: float) -> float:
    return float(np.sqrt(1 - 10 ** (-alike_db / 10)))


def _sure(doubt: float) -> float:
    return float(1 / (1 + np.exp(-doubt)))


KIND = Kind(
    name="stutter",
    title="Stutter",
    family=Family.GAPS,
    summary="sound that comes again at once",
    make=StutterDetector,
    needs=(held_cycles, fine_bands, outline, line_features),
)
