"""Moments that stand for a recording: where it is at its worst, as it mostly is, and at its quietest."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.measure.loudness_line import FRAME_SECONDS, Levels, frame_length
from umbrick.core.survey.finding import SPANNING_KINDS, Finding
from umbrick.core.units import SILENCE_DBFS

_SECONDS = 3.0
_A_SECOND = round(1 / FRAME_SECONDS)


class Moment(NamedTuple):
    """A stretch of a recording in frames, and what it stands for."""

    name: str
    start: int
    stop: int


def representative(levels: Levels, findings: Iterable[Finding], frames: int, rate: int) -> tuple[Moment, ...]:
    """Return three moments of three seconds, in the order worst, typical, quietest; one of all if that is no longer.

    Parameters
    ----------
    levels : ndarray
        The loudness line of all of it.
    findings : iterable of Finding
        What is to be mended. If there is none, the loudest moment takes the place of the worst.
    frames, rate : int
    """
    width, frame = round(_SECONDS / FRAME_SECONDS), frame_length(rate)
    if len(levels) < 3 * width:
        return (Moment("all of it", 0, frames),) if frames else ()
    starts = np.arange(0, len(levels) - width + 1, _A_SECOND)
    means = np.lib.stride_tricks.sliding_window_view(levels, width)[::_A_SECOND].mean(axis=1)
    is_silent = levels <= SILENCE_DBFS
    sounding = ~np.lib.stride_tricks.sliding_window_view(is_silent, width)[::_A_SECOND].any(axis=1)
    weights = np.zeros(len(levels) + 1)
    for finding in findings:
        if finding.kind not in SPANNING_KINDS:
            weights[min(finding.start // frame, len(levels) - 1)] += weight(finding)
    total = np.concatenate([[0.0], np.cumsum(weights)])
    damage = total[starts + width] - total[starts]
    free = np.ones(len(starts), bool)

    def taken(scores: npt.NDArray[np.floating]) -> int:
        chosen = int(np.argmax(np.where(free, scores, -np.inf)))
        free[max(0, chosen - width // _A_SECOND + 1) : chosen + width // _A_SECOND] = False
        return int(starts[chosen])

    is_hurt = bool(damage.max() > 0)
    worst = taken(damage if is_hurt else means)
    loud = means >= np.percentile(means, 50)
    typical = taken(-np.abs(means - np.median(means[loud])))
    quietest = taken(np.where(sounding, -means, -np.inf) if (sounding & free).any() else -means)
    names = "worst" if is_hurt else "loudest", "typical", "quietest"
    return tuple(
        Moment(name, start * frame, (start + width) * frame)
        for name, start in zip(names, (worst, typical, quietest), strict=True)
    )


def weight(finding: Finding) -> float:
    """Return how much a finding weighs beside others; each weighs something."""
    return finding.severity * finding.confidence + 1e-3


def worst_stretch(findings: Iterable[Finding], seconds: float, frames: int, rate: int) -> tuple[int, int]:
    """Return the stretch of so many seconds, or all there is, in which findings weigh most."""
    length = min(frames, round(seconds * rate))
    inside = sorted(findings, key=lambda finding: finding.start)
    starts = np.array([finding.start for finding in inside], np.int64)
    weights = np.cumsum([0.0, *map(weight, inside)])
    ends = np.searchsorted(starts, starts + length)
    first = int(np.argmax(weights[ends] - weights[np.arange(len(starts))]))
    # A little before the first of them, so that it is not cut at the edge.
    start = max(0, min(int(starts[first]) - rate // 4, frames - length))
    return start, start + length
