"""Level steps: one part of a recording far louder or quieter than the part before it."""

from __future__ import annotations

import warnings
from dataclasses import replace
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np
from scipy.ndimage import maximum_filter1d

from umbrick.core.model.robust_spread import robust_spread
from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.impulses.residual import segment_frames
from umbrick.core.survey.levels.change_point import change_point
from umbrick.core.survey.levels.fine_bands import fine_bands, hop_frames
from umbrick.core.survey.levels.outline import Outline, decibels, levels_of, outline
from umbrick.core.units import format_db

_STRETCH_SECONDS = 0.8
_STRETCHES, _FEWEST_STRETCHES = 8, 3
"""Each side of a step is so many stretches of 0.8 s, of which the fewer must sound."""

_GATE_DB, _SILENT_DB = 18.0, -65.0
_HALF_SURE_DB = 5.5
_LEAST_DB, _LEAST_CONFIDENCE = 1.5, 0.05
_NO_SOUND_DB = -105.0

_COMPARED_SECONDS, _PASSAGE_SECONDS = 4.0, 0.1
"""So long is what is compared on either side, but for what is nearest, where the level goes over."""

_PERCENTILES = (50, 90)
_ALIKE_DB, _COUNTS = 7.0, 3.0
"""By so much the levels of bands change apart from one another by what is said or played, and how much more counts."""

_PARTS, _NEAR_PARTS, _PART_PERCENTILE = 10, 6, 80
_LEAST_DRIFT, _MOST_DRIFT, _EVEN_DB = 0.6, 2.0, 1.186
"""What is compared is looked at in so many parts, of which the nearest tell whether it dies away or swells: by about as
much as the level changes, and as evenly as no voice does."""

_STEADY_DB, _BACKGROUND_DB = 4.0, 3.0
"""Noise alone is so steady; where it is as loud in the pauses of the other side, sound begins or ends over it."""


class _Step(NamedTuple):
    """What parts the quietest half of one side of a place from the loudest of the other, and both sides' levels."""

    size_db: Any
    before_db: Any
    after_db: Any


def _steps(loud_db: np.ndarray) -> _Step:
    """Return the steps before every stretch, as arrays; NaN where one side hardly sounds."""
    half = _STRETCHES // 2
    padded = np.pad(loud_db, _STRETCHES, constant_values=np.nan)
    sides = np.lib.stride_tricks.sliding_window_view(padded, 2 * _STRETCHES)[: len(loud_db)]
    halves = []
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # sides of nothing but silence are NaN, as wanted
        for side in (sides[:, :_STRETCHES][:, ::-1], sides[:, _STRETCHES:]):
            top = np.nanmax(side, axis=1, keepdims=True)
            sounding = np.where((side > top - _GATE_DB) & (side > _SILENT_DB), side, np.nan)
            enough = np.sum(~np.isnan(sounding), axis=1) >= _FEWEST_STRETCHES
            near, far = np.nanmedian(sounding[:, :half], axis=1), np.nanmedian(sounding[:, half:], axis=1)
            far = np.where(np.isnan(far), near, far)
            halves.append(np.where(enough, np.stack([near, far]), np.nan))
    before, after = halves
    size = np.maximum(after.min(axis=0) - before.max(axis=0), before.min(axis=0) - after.max(axis=0))
    return _Step(size, before.mean(axis=0), after.mean(axis=0))


class LevelStepDetector:
    """Collects outline and bands; compares the sounding segments before and after every place."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._segment = segment_frames(form.rate)
        self._outlines: list[Outline] = []
        self._bands: list[np.ndarray] = []

    def feed(self, block: Block) -> None:
        """Collect a block's outline, and its bands to a tenth of a decibel."""
        self._outlines.append(block.shared(outline))
        # Broken files may hold what is no number: that has no level.
        self._bands.append(np.nan_to_num(decibels(block.shared(fine_bands)), nan=-120.0, posinf=0.0).astype(np.float16))

    def findings(self) -> list[Finding]:
        """Return the places where the level goes over to another and stays there."""
        levels_db = levels_of(self._outlines)
        stretch = max(1, round(_STRETCH_SECONDS * self._format.rate / self._segment))
        count = len(levels_db) // stretch
        if count < 2 * _FEWEST_STRETCHES:
            return []
        loud_db = np.percentile(levels_db[: count * stretch].reshape(count, stretch), 80, axis=1)
        steps = _steps(loud_db)
        sizes = np.nan_to_num(steps.size_db, nan=0.0)
        highest = np.flatnonzero((sizes == maximum_filter1d(sizes, 2 * _FEWEST_STRETCHES + 1)) & (sizes >= _LEAST_DB))
        hop = hop_frames(self._format.rate)
        reach = _FEWEST_STRETCHES * stretch * self._segment // hop
        bands_db = np.concatenate(self._bands)
        findings = []
        for at in highest.tolist():
            step = _Step(*(float(column[at]) for column in steps))
            if _confidence(step.size_db) >= _LEAST_CONFIDENCE:
                change_db = step.after_db - step.before_db
                row = change_point(bands_db, at * stretch * self._segment // hop, change_db, reach)
                # Where no level of before or of after is left to hear, it is the sound's own beginning or end.
                if stretch <= row * hop / self._segment <= len(levels_db) - stretch:
                    sides = _sides(bands_db, row, self._format.rate / hop)
                    size_db = step.size_db - _COUNTS * max(0.0, _unlike_db(*sides) - _ALIKE_DB)
                    if not _drifts(*sides, change_db) and not _is_background(*sides):
                        findings.append(self._finding(row * hop, step._replace(size_db=size_db)))
        return _with_their_others([finding for finding in findings if finding.confidence >= _LEAST_CONFIDENCE])

    def _finding(self, at: int, step: _Step) -> Finding:
        size_db, before_db, after_db = step
        change_db = after_db - before_db
        word = "louder" if change_db > 0 else "quieter"
        return Finding(
            id="",
            kind="level_step",
            start=at,
            stop=at + 1,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(abs(change_db) / 25, 0, 1)), 3),
            confidence=round(_confidence(size_db), 3),
            evidence=f"{abs(change_db):.0f} dB {word} from here on, {format_db(before_db)} to {format_db(after_db)}",
            detail={"change_db": round(change_db, 2), "before_db": round(before_db, 2), "after_db": round(after_db, 2)},
        )


def _confidence(size_db: float) -> float:
    return float(1 / (1 + np.exp(_HALF_SURE_DB - size_db)))


def _sides(bands_db: np.ndarray, row: int, rows_a_second: float) -> tuple[np.ndarray, np.ndarray]:
    """Return the levels in bands before and after a place, but for where the level goes over."""
    reach, passage = (round(seconds * rows_a_second) for seconds in (_COMPARED_SECONDS, _PASSAGE_SECONDS))
    sides = bands_db[max(0, row - reach) : row - passage], bands_db[row + passage : row + reach]
    return sides[0].astype(np.float64), sides[1].astype(np.float64)


def _unlike_db(before_db: np.ndarray, after_db: np.ndarray) -> float:
    """Return by how much levels in bands change otherwise than all together: a gain changes them all alike, another
    way of playing does not. What no band hears on both sides is not to be compared: infinitely."""
    before, after = (np.percentile(side, _PERCENTILES, axis=0) for side in (before_db, after_db))
    heard = (before[0] > _NO_SOUND_DB) & (after[0] > _NO_SOUND_DB)
    if not heard.any():
        return np.inf
    changes = (after - before)[:, heard]
    apart = np.abs(changes - np.median(changes, axis=1, keepdims=True))
    return float(np.median(apart, axis=1).max())


def _drifts(before_db: np.ndarray, after_db: np.ndarray, change_db: float) -> bool:
    """Whether a change comes by and by, as where a gong dies away: both sides go evenly that way."""
    slopes = []
    for side, near in ((before_db, slice(-_NEAR_PARTS, None)), (after_db, slice(_NEAR_PARTS))):
        parts = np.array_split(_total_db(side), _PARTS)[near]
        level = np.array([np.percentile(part, _PART_PERCENTILE) for part in parts])
        # The median of the slopes between any two (P. K. Sen, 1968), for all of the side.
        first, second = np.triu_indices(len(parts), 1)
        slope = float(np.median((level[second] - level[first]) / (second - first)))
        off_db = level - slope * np.arange(len(level))
        if robust_spread(off_db) > _EVEN_DB:
            return False
        slopes.append(slope * _PARTS)
    towards = np.sign(change_db) * np.array(slopes)
    return bool((towards > 0).all() and _LEAST_DRIFT <= towards.sum() / 2 / abs(change_db) <= _MOST_DRIFT)


def _is_background(before_db: np.ndarray, after_db: np.ndarray) -> bool:
    """Whether one side is nothing but the noise that is as loud between the sounds of the other."""
    quiet, loud = sorted((_total_db(before_db), _total_db(after_db)), key=lambda level_db: float(np.median(level_db)))
    low, middle, high = np.percentile(quiet, (10, 50, 90))
    return bool(high - low < _STEADY_DB and np.percentile(loud, 10) < middle + _BACKGROUND_DB)


def _total_db(bands_db: np.ndarray) -> np.ndarray:
    return np.asarray(decibels(np.sum(10 ** (bands_db / 10), axis=1)))


def _with_their_others(findings: list[Finding]) -> list[Finding]:
    """Return steps that know how many frames away the level steps back before and after them."""
    findings = sorted(findings, key=lambda finding: finding.start)
    for number, (one, other) in enumerate(pairwise(findings)):
        if one.detail["change_db"] * other.detail["change_db"] < 0:
            frames = other.start - one.start
            findings[number] = replace(findings[number], detail=findings[number].detail | {"to_next": frames})
            findings[number + 1] = replace(other, detail=other.detail | {"to_previous": frames})
    return findings


KIND = Kind(
    name="level_step",
    title="Level steps",
    family=Family.LEVELS,
    summary="one part far louder or quieter than the next",
    make=LevelStepDetector,
    needs=(outline, fine_bands),
    of_outcome=True,
)
