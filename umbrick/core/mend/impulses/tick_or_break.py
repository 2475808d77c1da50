"""Whether what is listed as a break is a few wrong samples: then the sound goes on beneath them."""

from __future__ import annotations

import numpy as np

from umbrick.core.mend.impulses.declick import filled, within_reach
from umbrick.core.model.damage_extent import error_power_beside
from umbrick.core.model.worth import surroundings
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version

_SEEN_SECONDS = 0.1
_AFTER_SECONDS = 0.0015
_MOST_LEFT_DB = 7.0
"""Prediction errors over the rebuilt samples, against those beside them: a tick leaves none that stands out, a break
stays where it is."""


def lies_on_the_sound(finding: Finding, version: Version) -> bool:
    """Whether rebuilding the few samples that are surely wrong leaves no break, in any of a finding's channels."""
    first, last = (
        round(at + sign * _SEEN_SECONDS * version.rate) for at, sign in ((finding.start, -1), (finding.stop, 1))
    )
    first, last = max(0, first), min(version.frames, last)
    sound = version.read(first, last).astype(np.float64)
    return all(
        _left_db(sound[:, channel], finding.start - first, finding.stop - first, version.rate) <= _MOST_LEFT_DB
        for channel in finding.channels
    )


def _left_db(wave: np.ndarray, start: int, stop: int, rate: int) -> float:
    seen = within_reach(wave, start, stop, rate)
    around, start, model = surroundings(wave, seen.start, seen.stop, filled(wave, seen))
    if model is None:
        return 0.0
    stop = start + seen.stop - seen.start
    errors = np.convolve(around, model.error_filter, "valid")
    first = max(0, start - model.order)
    inside = errors[first : max(first + 1, stop - model.order + round(_AFTER_SECONDS * rate))]
    beside = error_power_beside(around, start, stop, model, rate)
    return float(10 * np.log10((float(np.mean(inside**2)) + 1e-20) / beside))
