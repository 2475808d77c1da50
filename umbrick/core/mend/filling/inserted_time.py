"""Whether a blank was put into a sound or stands for sound that is lost: where it was put in, no time has passed."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.mend.place import Place
from umbrick.core.model.across import models_beside, unlike_across
from umbrick.core.model.autoregression import Model, modelled
from umbrick.core.timeline.version import Version

Wave = npt.NDArray[np.float64]

_CONTEXT_SECONDS = 0.09
_ORDER_SECONDS, _LEAST_ORDER = 0.004, 32
_LOOKED_AT_SECONDS, _BESIDE_SECONDS = 0.001, 0.006
_MOST_DB = 5.0
"""The prediction error over the join against that beside it."""

_LEAST_BREAK_DB = 12.0
_FIRST_SHIFT_SECONDS, _LAST_SHIFT_SECONDS, _SHIFT_STEP_SECONDS = 0.0006, 0.012, 0.0003
_MOST_BY_CHANCE, _AS_GOOD = 0.03, 1.5
"""A sound that any later moment goes on as well tells nothing: of the later moments tried, at most so many may join
with an error as small."""


def is_inserted(version: Version, place: Place) -> bool:
    """Whether the sound after a blank goes on just where it broke off before it, in every channel of the place.

    Notes
    -----
    What follows at once is foretold by an autoregressive model of both sides (J. Makhoul, 1975) as well as any other
    sample; what follows after lost time is not.
    """
    reach = round(_CONTEXT_SECONDS * version.rate)
    if place.start < reach or place.stop + reach > version.frames:
        return False
    before = version.read_exact(place.start - reach, place.start)
    after = version.read_exact(place.stop, place.stop + reach)
    return all(_goes_on(before[:, channel], after[:, channel], version.rate) for channel in place.channels)


def is_lost_sound(version: Version, place: Place) -> bool:
    """Whether the sound after a place clearly does not go on where it broke off before it, in any of its channels: what
    stands there was put in instead of sound that is lost."""
    reach = round(_CONTEXT_SECONDS * version.rate)
    first = max(0, place.start - reach)
    sound = version.read_exact(first, min(version.frames, place.stop + reach))
    return any(_breaks_off(wave, place.start - first, place.stop - first, version.rate) for wave in sound.T)


def _breaks_off(wave: Wave, start: int, stop: int, rate: int) -> bool:
    models = models_beside(wave, start, stop, rate)
    return bool(models) and unlike_across(wave[:start], wave[stop:], models) > 10 ** (_LEAST_BREAK_DB / 10)


def _goes_on(left: Wave, right: Wave, rate: int) -> bool:
    order = max(_LEAST_ORDER, round(_ORDER_SECONDS * rate))
    model = modelled(np.concatenate([left, right]), order)
    if model is None:
        return False
    size, beside = max(8, round(_LOOKED_AT_SECONDS * rate)), round(_BESIDE_SECONDS * rate)
    usual = np.concatenate(
        [_errors(left[-beside - order :], model), _errors(right[size : size + beside + order], model)]
    )
    own = _across(left, right, size, model)
    if own > float(np.mean(usual**2)) * 10 ** (_MOST_DB / 10):
        return False
    shifts = [round(at * rate) for at in np.arange(_FIRST_SHIFT_SECONDS, _LAST_SHIFT_SECONDS, _SHIFT_STEP_SECONDS)]
    others = np.array([_across(left, right[shift:], size, model) for shift in shifts])
    return bool(np.mean(others <= _AS_GOOD * own) <= _MOST_BY_CHANCE)


def _across(left: Wave, right: Wave, size: int, model: Model) -> float:
    """Return the mean square of the prediction error over the first samples after a join."""
    return float(np.mean(_errors(np.concatenate([left[-model.order :], right[:size]]), model) ** 2))


def _errors(wave: Wave, model: Model) -> Wave:
    return np.convolve(wave, model.error_filter, "valid")
