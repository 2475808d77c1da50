"""Slips: a sample too many or too few again and again, where two clocks ran apart and nothing took account of it."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.model.slip import slip_near
from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.impulse_sorting import events, together

_LONGEST_SECONDS = 0.002
_MOST_PUT_OFF = 32
"""A slip may look like a click. That all of them do is not to be expected: these wait until one is known."""

_MOST_IN_A_BLOCK = 60
"""Among more events than these, such as crackle, slips are not looked for."""

_LEAST_SURE = 0.3
_GAIN_DB, _OVER_CLICK_DB, _LEFT_DB = 6.0, 1.0, 4.5
_FAINT_GAIN_DB, _FAINTLY_OVER_CLICK_DB, _FAINT_LEFT_DB = 4.0, -0.3, 6.0
"""Enough where a slip is due."""

_CLEAR_GAIN_DB, _CLEARLY_OVER_CLICK_DB = 10.0, 3.0
_FEWEST_REGULAR, _FEWEST_CLEAR = 3, 4
_SLACK_FRAMES, _SLACK = 3.0, 0.002
_MOST_MISSED = 4
"""So many in a row may have been missed."""

_LATEST = 24
"""From so many it is told, as a recording goes on, when the next one is due."""

_FAINTEST_DB = -28.0
"""How far below the sound those lie that do not stand out of it."""

_AS_GOOD, _MOST_TRIED = 0.9, 400
_REGULAR_CONFIDENCE, _IRREGULAR_CONFIDENCE = 0.97, 0.6


class _Slip(NamedTuple):
    """A slip of the recording: whether it may be one by itself, is clearly one, and how it stands out."""

    at: int
    samples: int
    is_likely: bool
    is_clear: bool
    relative_db: float


class _Near(NamedTuple):
    """A wave that begins at frame ``first`` of the recording, and the frames between which a slip may be."""

    wave: npt.NDArray[np.float32]
    first: int
    start: int
    stop: int
    rate: int


class SlipDetector:
    """Tries whether one sample more or less explains what stands out; decides by whether that comes again."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._slips: list[_Slip] = []
        self._put_off: deque[tuple[_Near, float]] = deque(maxlen=_MOST_PUT_OFF)

    def feed(self, block: Block) -> None:
        """Try the events of a block."""
        found = together([event for event in block.shared(events) if sum(event.sure) >= _LEAST_SURE])
        if len(found) > _MOST_IN_A_BLOCK:
            return
        for group in found:
            event = max(group, key=lambda event: event.excess_db)
            if event.stop - event.start > _LONGEST_SECONDS * block.rate:
                continue
            near = _near(block, block.samples[:, event.channel], event.start, event.stop)
            if not (event.may_be_break or self._slips):
                self._put_off.append((near._replace(wave=near.wave.copy()), event.relative_db))
            elif slip := _tried(near, event.relative_db):
                self._slips.append(slip)
        self._take_up()
        self._slips += [slip for samples in (1, -1) for slip in self._due_in(block, samples)]

    def _take_up(self) -> None:
        """Try what was put off, if slips are known now, or if most of it comes evenly."""
        _, is_regular = regular(np.array([near.start for near, _ in self._put_off], np.int64))
        if self._slips or np.count_nonzero(is_regular) > len(self._put_off) / 2:
            tried = (_tried(*put_off) for put_off in self._put_off)
            self._slips = sorted([*self._slips, *(slip for slip in tried if slip)], key=lambda slip: slip.at)
            self._put_off.clear()

    def _due_in(self, block: Block, samples: int) -> Iterator[_Slip]:
        """Yield the slips of a block that come when they are due and do not stand out of the sound there: where many
        are known, these take the time off as well."""
        known = np.array([slip.at for slip in self._slips if slip.samples == samples], np.int64)
        likely = [slip.at for slip in self._slips if slip.samples == samples and slip.is_likely]
        places = np.array(sorted(likely[-_LATEST:]), np.int64)
        period, is_regular = regular(places)
        if not period:
            return
        anchor = int(places[is_regular][-1])
        turns = np.arange(np.ceil((block.start - anchor) / period), np.ceil((block.stop - anchor) / period))
        for at in np.round(anchor + turns[np.abs(turns) <= _MOST_MISSED] * period).astype(np.int64).tolist():
            if not (np.abs(known - at) <= _SLACK_FRAMES + _SLACK * period).any():
                slip = _tried(_near(block, block.mono, at, at + 1), _FAINTEST_DB)
                if slip is not None and slip.samples == samples:
                    yield slip

    def findings(self) -> list[Finding]:
        """Return the slips, if there are enough that come evenly, or that are clear."""
        findings: list[Finding] = []
        for samples in (1, -1):
            own = [slip for slip in self._slips if slip.samples == samples]
            likely = [slip for slip in own if slip.is_likely]
            places = np.array([slip.at for slip in likely], np.int64)
            period, is_regular = regular(places)
            has_clear = sum(slip.is_clear for slip in own) >= _FEWEST_CLEAR
            for slip in own:
                regularly = bool(period) and is_due(slip.at, places[is_regular], period)
                if regularly or (has_clear and slip.is_clear):
                    findings.append(self._finding(slip, period if regularly else 0.0))
        return sorted(findings, key=lambda finding: finding.start)

    def _finding(self, slip: _Slip, period: float) -> Finding:
        what = "one sample too many" if slip.samples > 0 else "one sample too few"
        seconds = period / self._format.rate
        often = f"and again every {seconds:.3f} s" if period else "as in other places, though not evenly"
        return Finding(
            id="",
            kind="slip",
            start=slip.at,
            stop=slip.at + 1,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip((slip.relative_db + 30) / 40, 0, 1)), 3),
            confidence=_REGULAR_CONFIDENCE if period else _IRREGULAR_CONFIDENCE,
            evidence=f"{what}, {often}",
            detail={"samples": slip.samples, "period_s": round(seconds, 6)},
        )


def _near(block: Block, wave: npt.NDArray[np.float32], start: int, stop: int) -> _Near:
    """Return what lies about two frames of a recording in one of a block's waves."""
    first = block.start - block.before
    reach = block.rate // 8
    begin = max(0, start - first - reach)
    return _Near(wave[begin : stop - first + reach], first + begin, start, stop, block.rate)


def _tried(near: _Near, relative_db: float) -> _Slip | None:
    """Return the slip that lies at a place, if one does."""
    first = near.first
    slip = slip_near(near.wave.astype(np.float64), near.start - first, near.stop - first, near.rate)
    if slip is None:
        return None
    over_click_db = slip.gain_db - slip.as_click_db
    if slip.gain_db < _FAINT_GAIN_DB or over_click_db < _FAINTLY_OVER_CLICK_DB or slip.left_db > _FAINT_LEFT_DB:
        return None
    is_likely = slip.gain_db >= _GAIN_DB and over_click_db >= _OVER_CLICK_DB and slip.left_db <= _LEFT_DB
    is_clear = is_likely and slip.gain_db >= _CLEAR_GAIN_DB and over_click_db >= _CLEARLY_OVER_CLICK_DB
    return _Slip(first + slip.at, slip.samples, is_likely, is_clear, relative_db)


def is_due(at: int, known: npt.NDArray[np.int64], period: float) -> bool:
    """Whether a place is one of some that come evenly, or lies a few periods from one."""
    turns = np.round((known - at) / period)
    near = (np.abs(turns) <= _MOST_MISSED) & (
        np.abs(known - at - turns * period) <= _SLACK_FRAMES + _SLACK * period * np.abs(turns)
    )
    return bool(near.any())


def regular(places: npt.NDArray[np.int64]) -> tuple[float, npt.NDArray[np.bool_]]:
    """Return the period with which most of some places come again, 0 if there is none, and which of them do.

    Parameters
    ----------
    places : ndarray, shape (n,)
        Frames, ascending; a few in a row may be missing.
    """
    none = np.zeros(len(places), np.bool_)
    if len(places) < _FEWEST_REGULAR:
        return 0.0, none
    apart = np.unique(np.concatenate([np.diff(places), places[2:] - places[:-2]]))
    apart = apart[apart > 2 * _SLACK_FRAMES][:_MOST_TRIED]
    tried = [(_members(places, period), period) for period in apart.tolist()]
    counts = [np.count_nonzero(members) for members, _ in tried]
    most = max(counts, default=0)
    if most < _FEWEST_REGULAR:
        return 0.0, none
    # What comes every second comes every half a second too.
    members, period = max((one for one, count in zip(tried, counts, strict=True) if count >= _AS_GOOD * most),
                          key=lambda one: one[1])  # fmt: skip
    steps = np.diff(places[members])
    turns = np.maximum(1, np.round(steps / period))
    return float(np.median(steps / turns)), members


def _members(places: npt.NDArray[np.int64], period: float) -> npt.NDArray[np.bool_]:
    """Return which places have another a few periods away, and that one another again or the same."""
    members = np.zeros(len(places), np.bool_)
    for turns in range(1, _MOST_MISSED + 1):
        slack = _SLACK_FRAMES + _SLACK * turns * period
        due = places + turns * period
        low, high = np.searchsorted(places, due - slack), np.searchsorted(places, due + slack, side="right")
        later = np.flatnonzero(high > low)
        members[later] = True
        members[low[later]] = True
    return members


KIND = Kind(
    name="slip",
    title="Slips",
    family=Family.GAPS,
    summary="a sample too many or too few, again and again",
    make=SlipDetector,
    needs=(events,),
)
