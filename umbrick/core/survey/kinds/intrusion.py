"""Intrusions: a foreign tone, whistle, ring or call over the sound, with an onset and an end.

A line in the spectrum is the more likely foreign the louder, longer and straighter it goes on, the more suddenly it
ends, the fewer others in the recording do so as well, the fewer begin with it, as the harmonics of a note do, and the
less it dies away, as a struck or plucked string does. The weights are those of a logistic regression on calls planted
in clean speech and music, at several speeds, against the lines that these have themselves.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.residual import MARGIN_SEGMENTS, residuals, segment_frames
from umbrick.core.survey.tones.line_measures import SHORTEST_SECONDS, Array, Line, measured
from umbrick.core.survey.tones.ridges import END_ROWS, Floats, Ridge, ridges, tops

_LOWEST_HZ, _HIGHEST_HZ = 500.0, 14000.0
_HISTORY_SECONDS = 4.0
_WEIGHTS_OF = {
    "over what is beside": 0.143,
    "octaves of length": 1.89,
    "kHz": 5.1,
    "level": 0.19,
    "octaves of rivals a second": -0.566,
    "octaves of others that begin with it": -1.25,
    "dies away": -0.584,
    "octaves of width": 1.13,
    "onset": 0.0783,
    "release": 0.134,
    "ripple": -0.983,
    "octaves of bend": -1.63,
    "constant": -16.5,
}
"""Log odds of being foreign."""

_WEIGHTS = np.array(list(_WEIGHTS_OF.values()))
_LEAST_CONFIDENCE, _LIKELY = 0.05, 0.5
_UNSEEN_SEGMENTS = 0.25
"""A line is seen once it fills a good half of a spectrum's window: it begins a little before, and ends after."""

_LARGEST_SHARE = 0.6
"""What sounds through most of a recording is no intrusion."""

_AROUND_SECONDS, _FILLED_SHARE, _MOST_IF_FILLED, _SAME_PITCH = 8.0, 0.4, 0.4, 0.03
"""Nor is what is followed and preceded by others of other pitches, so that they fill much of the time in which anything
sounds around it: those are notes."""

_TONE_BINS, _PURE_SHARE = 4, 0.99
_SOUNDING_DB, _MOST_PURE, _MOST_IF_PURE = 30.0, 0.5, 0.3
"""Where a single tone is all that sounds, half of the time and more, there is nothing that it could intrude on."""


def _bins(rate: int) -> slice:
    """Return the bins of a residual's spectra in which lines are looked for."""
    hz = rate / (2 * segment_frames(rate))
    return slice(int(_LOWEST_HZ / hz), int(min(_HIGHEST_HZ, 0.46 * rate) / hz))


def lines(block: Block) -> tuple[Floats, Floats, Floats]:
    """Return the tops of a block's spectra, their power, and of each spectrum, a row each, the power of all that it
    holds and of its strongest tone."""
    found = block.shared(residuals)
    power = np.asarray(sum(one.power for one in found) / np.float32(len(found)), np.float32)
    count = -(-(block.stop - block.start) // found[0].segment)
    own = power[MARGIN_SEGMENTS : MARGIN_SEGMENTS + count]
    searched = np.ascontiguousarray(own[:, _bins(block.rate)])
    strongest = own.argmax(axis=1)
    reach = np.arange(-_TONE_BINS, _TONE_BINS + 1)
    tone = np.take_along_axis(own, np.clip(strongest[:, np.newaxis] + reach, 0, own.shape[1] - 1), axis=1).sum(axis=1)
    return tops(searched), searched, np.stack([own.sum(axis=1), tone], axis=1)


class _GoingOn(NamedTuple):
    """A line that had not ended with the last block: the frame it began at, and its bins."""

    start: int
    lowest: int
    highest: int

    def is_near(self, ridge: Ridge) -> bool:
        """Whether a ridge may be what goes on of it."""
        return self.lowest <= ridge.highest + 1 and ridge.lowest <= self.highest + 1


class IntrusionDetector:
    """Follows the ridges of the spectra from block to block; the lonely and lasting ones are foreign."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._segment = segment_frames(form.rate)
        self._hz = form.rate / (2 * self._segment)
        searched = _bins(form.rate)
        self._low = searched.start
        self._over = np.zeros((0, searched.stop - searched.start), np.float32)
        self._power = self._over
        self._row = 0
        self._lines: list[Line] = []
        self._going_on: list[_GoingOn] = []
        self._powers: list[Floats] = []

    def feed(self, block: Block) -> None:
        """Follow the ridges into a block; those that have ended are noted."""
        over, own, powers = block.shared(lines)
        count = len(over)
        self._powers.append(powers)
        over, own = np.concatenate([self._over, over]), np.concatenate([self._power, own])
        first_row = self._row - len(self._over)
        self._row += count
        going_on: list[_GoingOn] = []
        is_last = len(block.samples) == block.before + block.stop - block.start
        shortest = round(SHORTEST_SECONDS * self._format.rate / self._segment)
        since = len(over) - count - END_ROWS
        for ridge in ridges(over, own, shortest, since):
            line = self._line(ridge, first_row)
            # What ends in the last rows is seen to by the next block, which knows how it ends.
            if is_last or ridge.last < len(over) - END_ROWS:
                self._lines.append(line)
            else:
                going_on.append(_GoingOn(line.start, ridge.lowest, ridge.highest))
        self._going_on = going_on
        keep = round(_HISTORY_SECONDS * self._format.rate / self._segment)
        self._over, self._power = over[-keep:], own[-keep:]

    def _line(self, ridge: Ridge, first_row: int) -> Line:
        start = (ridge.first + first_row) * self._segment
        if ridge.first == 0:
            # It is older than what is kept of the rows.
            near = [one for one in self._going_on if one.is_near(ridge)]
            start = min([start, *(one.start for one in near)])
        return Line(
            start,
            (ridge.last + first_row) * self._segment,
            (ridge.lowest + self._low) * self._hz,
            (ridge.highest + self._low) * self._hz,
            ridge,
        )

    def measured(self) -> tuple[list[Line], dict[str, Array]]:
        """Return the lines that sound through no more than a part of the recording, and what they are weighed by."""
        frames = max(1, self._row) * self._segment
        usual = float(np.concatenate(self._powers).mean(axis=0)[0]) if self._lines else 0.0
        columns = measured(self._lines, usual, frames, self._format.rate) if self._lines else {}
        chosen = [row for row, line in enumerate(self._lines) if line.stop - line.start <= _LARGEST_SHARE * frames]
        return [self._lines[row] for row in chosen], {name: column[chosen] for name, column in columns.items()}

    def findings(self) -> list[Finding]:
        """Return the foreign lines."""
        found, columns = self.measured()
        if not found:
            return []
        odds = np.stack([columns[name] for name in _WEIGHTS_OF], axis=1) @ _WEIGHTS
        sure = 1 / (1 + np.exp(-odds))
        whole, tone = np.concatenate(self._powers).T
        sounding = whole > np.percentile(whole, 95) * 10 ** (-_SOUNDING_DB / 10)
        if np.mean(tone[sounding] >= _PURE_SHARE * whole[sounding]) > _MOST_PURE:
            sure = np.minimum(sure, _MOST_IF_PURE)
        sure = np.where(self._are_notes(found, sure, sounding), np.minimum(sure, _MOST_IF_FILLED), sure)
        findings = [
            self._finding(line, confidence)
            for line, confidence in zip(found, sure.tolist(), strict=True)
            if confidence >= _LEAST_CONFIDENCE
        ]
        return sorted(findings, key=lambda finding: finding.start)

    def _are_notes(self, found: list[Line], sure: Array, sounding: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
        """Return which of some lines are among likely ones of other pitches that fill the time around them, of the
        segments in which anything sounds."""
        spans = np.array([(line.start, line.stop) for line in found], np.int64).reshape(-1, 2) // self._segment
        hz = np.array([(line.low_hz + line.high_hz) / 2 for line in found])
        likely = sure >= _LIKELY
        reach = round(_AROUND_SECONDS * self._format.rate / self._segment)
        notes = np.zeros(len(found), np.bool_)
        for number in np.flatnonzero(likely).tolist():
            first, last = spans[number].tolist()
            begin, end = max(0, first - reach), min(len(sounding), last + reach)
            others = likely & _are_of_other_pitch(hz, float(hz[number])) & (spans[:, 1] > begin) & (spans[:, 0] < end)
            filled, beside = np.zeros(end - begin, np.bool_), sounding[begin:end].copy()
            for other_first, other_last in (spans[others] - begin).tolist():
                filled[max(0, other_first) : other_last] = True
            beside[first - begin : last - begin] = False
            notes[number] = beside.any() and filled[beside].mean() >= _FILLED_SHARE
        return notes

    def _finding(self, line: Line, confidence: float) -> Finding:
        low, high, seconds = line.low_hz, line.high_hz, (line.stop - line.start) / self._format.rate
        where = f"{low:.0f} Hz" if high - low < 3 * self._hz else f"{low:.0f} to {high:.0f} Hz"
        unseen = round(_UNSEEN_SEGMENTS * self._segment)
        return Finding(
            id="",
            kind="intrusion",
            start=max(0, line.start - unseen),
            stop=line.stop + unseen,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(line.ridge.over_db / 50, 0, 1)), 3),
            confidence=round(confidence, 3),
            evidence=f"a tone at {where} for {seconds:.1f} s, {line.ridge.over_db:.0f} dB over what is beside it",
            detail={"band_hz": [round(low, 1), round(high, 1)], "over_db": round(line.ridge.over_db, 1)},
        )


def _are_of_other_pitch(hz: Array, than_hz: float) -> npt.NDArray[np.bool_]:
    """Return which frequencies are neither another one nor a multiple or a whole part of it."""
    ratio = np.maximum(hz, than_hz) / np.minimum(hz, than_hz)
    return np.asarray(np.abs(ratio / np.round(ratio) - 1) > _SAME_PITCH)


KIND = Kind(
    name="intrusion",
    title="Intrusions",
    family=Family.BACKGROUND,
    summary="foreign tones, whistles, rings and calls",
    make=IntrusionDetector,
    needs=(lines,),
    of_outcome=True,
)
