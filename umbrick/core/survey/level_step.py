"""Level steps: one part of a recording far louder or quieter than the part before it."""

from __future__ import annotations

import warnings
from typing import Any, NamedTuple

import numpy as np
from scipy.ndimage import gaussian_filter1d, maximum_filter1d

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.outline import Outline, decibels, outline
from umbrick.core.survey.residual import segment_frames
from umbrick.core.units import format_db

_STRETCH_SECONDS = 0.8
_STRETCHES, _FEWEST_STRETCHES = 8, 3
"""Each side of a step is so many stretches of 0.8 s, of which the fewer must sound."""

_GATE_DB, _SILENT_DB = 18.0, -65.0
_LEARNED_REACHES, _LEARNED_BESIDE = 3, 8
_LOWEST_DB, _HIGHEST_DB = -130.0, 6.0
_BLUR_DB, _NEVER = 2.0, 2e-3
_HALF_SURE_DB = 5.5
_LEAST_DB = 1.5


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


def _refined(levels_db: np.ndarray, at: int, reach: int) -> int:
    """Return the segment, within reach of a place, up to which levels are likelier before the step and then after it.

    What levels there are on either side, pauses and all, is learned from some seconds of both (cumulative sum of log
    likelihood ratios, after E. S. Page, 1954).
    """
    near = reach // _LEARNED_BESIDE
    likely = [
        _log_shares(levels_db[max(0, at - _LEARNED_REACHES * reach) : max(1, at - near)]),
        _log_shares(levels_db[at + near : at + _LEARNED_REACHES * reach]),
    ]
    first = max(0, at - reach)
    bins = _bin(levels_db[first : at + reach])
    return first + int(np.argmax(np.concatenate([[0.0], np.cumsum(likely[0][bins] - likely[1][bins])])))


def _bin(levels_db: np.ndarray) -> np.ndarray:
    return (np.clip(levels_db, _LOWEST_DB, _HIGHEST_DB) - _LOWEST_DB).astype(np.int64)


def _log_shares(levels_db: np.ndarray) -> np.ndarray:
    """Return how common levels are, in steps of a decibel; what never was is not impossible."""
    counts = np.bincount(_bin(levels_db), minlength=int(_HIGHEST_DB - _LOWEST_DB) + 1)
    shares = gaussian_filter1d(counts.astype(np.float64), _BLUR_DB) / max(1, len(levels_db))
    return np.asarray(np.log(shares + _NEVER))


class LevelStepDetector:
    """Collects the outline; compares the sounding segments before and after every place."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._segment = segment_frames(form.rate)
        self._outlines: list[Outline] = []

    def feed(self, block: Block) -> None:
        """Collect a block's outline."""
        self._outlines.append(block.shared(outline))

    def findings(self) -> list[Finding]:
        """Return the places where the level goes over to another and stays there."""
        levels_db = decibels(Outline.joined(self._outlines).power)
        stretch = max(1, round(_STRETCH_SECONDS * self._format.rate / self._segment))
        count = len(levels_db) // stretch
        if count < 2 * _FEWEST_STRETCHES:
            return []
        loud_db = np.percentile(levels_db[: count * stretch].reshape(count, stretch), 80, axis=1)
        steps = _steps(loud_db)
        sizes = np.nan_to_num(steps.size_db, nan=0.0)
        highest = np.flatnonzero((sizes == maximum_filter1d(sizes, 2 * _FEWEST_STRETCHES + 1)) & (sizes >= _LEAST_DB))
        findings = []
        for at in highest.tolist():
            place = _refined(levels_db, at * stretch, _FEWEST_STRETCHES * stretch)
            findings.append(self._finding(place, _Step(*(float(column[at]) for column in steps))))
        return [finding for finding in findings if finding.confidence >= 0.05]

    def _finding(self, at: int, step: _Step) -> Finding:
        size_db, before_db, after_db = step
        change_db = after_db - before_db
        word = "louder" if change_db > 0 else "quieter"
        return Finding(
            id="",
            kind="level_step",
            start=at * self._segment,
            stop=at * self._segment + 1,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(abs(change_db) / 25, 0, 1)), 3),
            confidence=round(float(1 / (1 + np.exp(-(size_db - _HALF_SURE_DB) / 1.0))), 3),
            evidence=f"{abs(change_db):.0f} dB {word} from here on, {format_db(before_db)} to {format_db(after_db)}",
            detail={"change_db": round(change_db, 2), "before_db": round(before_db, 2), "after_db": round(after_db, 2)},
        )


KIND = Kind(
    name="level_step",
    title="Level steps",
    family=Family.LEVELS,
    summary="one part far louder or quieter than the next",
    make=LevelStepDetector,
    needs=(outline,),
)
