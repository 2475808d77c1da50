"""Rehearsing how far noise is lowered: more of a recording's noise is added where it is loud, and taken out again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.course.laid import Ground
from umbrick.core.course.step import Step
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.measure.loudness_line import Levels, loudest_stretch, quietest_stretch
from umbrick.core.mend.filling.room_tone import room_tone_near
from umbrick.core.sound.source import ArraySource, Source
from umbrick.core.timeline.version import Version

TRIED_DB = 6.0, 8.0, 10.0, 12.0, 15.0, 20.0, 25.0
_SECONDS = 6.0
_QUIET_SECONDS = 0.5
_LOUDER_DB = 12.0
"""By how much what is added is louder than the noise that is there: that one is part of what is known to be right."""

_AS_GOOD_DB = 0.5


class Tried(NamedTuple):
    """What an amount of reduction gains: by how many dB the noise that was added is less."""

    reduction_db: float
    gain_db: float


class NoiseRehearsal(NamedTuple):
    """Every amount that was tried, the least first, and where."""

    tried: tuple[Tried, ...]
    start: int
    stop: int

    @property
    def advised(self) -> Tried:
        """The gentlest amount that is as good as the best, to half a dB."""
        best = max(one.gain_db for one in self.tried)
        return next(one for one in self.tried if one.gain_db >= best - _AS_GOOD_DB)


def rehearse_noise(
    sound: Source,
    step: Step,
    levels: Levels,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> NoiseRehearsal:
    """Return how several amounts of reduction do on a loud moment with more of the recording's own noise in it.

    Parameters
    ----------
    sound : Source
        That comes to the step.
    step : Step
        Of denoising, with its noise print.
    levels : ndarray
        The sound's loudness line.

    Raises
    ------
    ParameterError
        If there is no pause to take noise from, or nothing louder than it.
    CancelledError
        If ``is_cancelled`` says so.
    """
    start, stop = loudest_stretch(levels, _SECONDS, sound.frames, sound.rate)
    quiet = quietest_stretch(levels, _QUIET_SECONDS, sound.frames, sound.rate)
    truth = sound.read(start, stop).astype(np.float64)[:, list(step.channels)]
    noise = room_tone_near(sound, (quiet[0] + quiet[1]) // 2, len(truth))[:, list(step.channels)]
    noise = noise * 10 ** (_LOUDER_DB / 20)
    if not 0 < np.sum(noise**2) < np.sum(truth**2):
        raise ParameterError("There is nothing clear of the noise here to rehearse on.", "Set the reduction by ear.")
    planted = Version.of(ArraySource(truth + noise, sound.rate, f"rehearsed:{sound.key}"))
    own = replace(step, channels=tuple(range(len(step.channels))), spans=None, is_on=True)
    tried = []
    for number, reduction_db in enumerate(TRIED_DB):
        if is_cancelled():
            raise CancelledError
        threshold_db = min(12.0, float(step.settings["threshold_db"]) + _LOUDER_DB)
        settings = step.settings | {"reduction_db": reduction_db, "threshold_db": threshold_db, "amount": 1.0}
        made = Ground(planted, planted, Tiles()).through((replace(own, settings=settings),))
        tried.append(Tried(reduction_db, _gain_db(made.read(0, made.frames), truth, noise)))
        progress((number + 1) / len(TRIED_DB))
    return NoiseRehearsal(tuple(tried), start, stop)


def _gain_db(made: npt.NDArray[np.float32], truth: npt.NDArray[np.float64], noise: npt.NDArray[np.float64]) -> float:
    error = np.sum((made - truth) ** 2)
    return round(float(10 * np.log10(np.sum(noise**2) / max(1e-20, float(error)))), 2)
