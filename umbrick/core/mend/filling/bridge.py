"""Bridging: rebuilds a gap from what is on both sides of it, from like sound nearby, and from the other channels."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.filling import pitch_synchronous
from umbrick.core.mend.filling.experts import Expert, agreed, donated, heard_elsewhere
from umbrick.core.mend.method import Excerpt, Method, Rebuilding
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.model.autoregression import NOISE_SHARE
from umbrick.core.model.bounds import Mask, Wave, spans_in
from umbrick.core.model.interpolation import bridged_over, interpolated

LONGEST_SECONDS = 0.3

_LEAST_ORDER_SECONDS = 0.0107
"""The predictor looks back over a turn of the lowest voice at least: the pitch tells more than the resonances."""

_LEAST_ORDER, _MOST_ORDER = 128, 1000
_SWEEPS, _SWEEPS_OF_LONG = 3, 2
"""How often model and samples are estimated in turn; a third time is worth nothing in gaps that are long."""

_CONTEXT_ORDERS = 4
_LEAST_CONTEXT = 2048
_SHORT_SECONDS, _LONG_SECONDS = 0.008, 0.02
_NOISE_SHARE_OF_LONG = 1e-5
_LEAST_FOR_DONORS_SECONDS = 0.0005
_FINEST = 2.0**-20
_LEAST_FOR_CYCLES_SECONDS = 0.006
_CYCLES_COUNT = 50.0
"""How much cycles count where they do far better than prediction. A model's error is told by the sound it was fitted
to, which flatters it; what cycles get wrong is told by trial."""


def rebuild(
    excerpt: Excerpt, parameters: Parameters, is_cancelled: Callable[[], bool] = lambda: False
) -> npt.NDArray[np.float64]:
    """Return the excerpt with each run of its target rebuilt.

    Parameters
    ----------
    excerpt : Excerpt
    parameters : Parameters
        ``using``: ``prediction`` goes on with the resonances on both sides; ``donors`` also listens to like sound
        nearby and to channels that are intact; ``auto`` does so for all but the shortest gaps. ``crossfade_ms``: so
        much more on either side is rebuilt, and goes over into what is there.
    is_cancelled : callable
        CancelledError is raised soon after it says so.

    Raises
    ------
    ParameterError
        If a gap is longer than 0.3 s.
    """
    samples = excerpt.samples.astype(np.float64)
    fade = round(float(parameters.get("crossfade_ms", 0.0)) * excerpt.rate / 1000)
    using = str(parameters.get("using", "auto"))
    damage = np.asarray(excerpt.damage | excerpt.target)
    target = np.asarray(excerpt.target.any(axis=1))
    around = np.stack([bridged_over(samples[:, c], damage[:, c]) for c in range(samples.shape[1])], axis=1)
    for start, stop in zip(*(edges.tolist() for edges in spans_in(target)), strict=True):
        if is_cancelled():
            raise CancelledError
        if stop - start > LONGEST_SECONDS * excerpt.rate:
            raise ParameterError(
                f"A bridge spans up to {1000 * LONGEST_SECONDS:.0f} ms; this gap has "
                f"{1000 * (stop - start) / excerpt.rate:.0f} ms.",
                "Fill it with a graft, or close it up.",
            )
        first, last = max(0, start - fade), min(len(samples), stop + fade)
        channels = np.flatnonzero(excerpt.target[start:stop].any(axis=0)).tolist()
        made = _bridged(around, damage, first, last, channels, excerpt.rate, using)
        for column, channel in enumerate(channels):
            weight = _weight(start - first, stop - start, last - stop)
            whole = weight * made[:, column] + (1 - weight) * samples[first:last, channel]
            samples[first:last, channel] = around[first:last, channel] = whole
    return samples


def _weight(before: int, inside: int, after: int) -> Wave:
    """Return how much of what was rebuilt counts: all of it inside, and less and less on the way out."""
    rise, fall = (np.sin(np.pi / 2 * (np.arange(count) + 1) / (count + 1)) ** 2 for count in (before, after))
    return np.concatenate([rise, np.ones(inside), fall[::-1]])


def _bridged(
    around: Wave, damage: Mask, start: int, stop: int, channels: list[int], rate: int, using: str
) -> npt.NDArray[np.float64]:
    """Return a gap of some channels, shape ``(stop − start, channels)``."""
    length = stop - start
    order = int(np.clip(max(3 * length, _LEAST_ORDER_SECONDS * rate), _LEAST_ORDER, _MOST_ORDER))
    reach = max(_CONTEXT_ORDERS * order, _LEAST_CONTEXT)
    noise_share = _noise_share(length / rate)
    left, right = max(0, start - reach), min(len(around), stop + reach)
    if using == "auto":
        using = "donors" if length >= _LEAST_FOR_DONORS_SECONDS * rate else "prediction"
    has_both_sides = start - left == reach and right - stop == reach
    made = np.zeros((length, len(channels)))
    if using == "prediction" or not has_both_sides:
        sweeps = _SWEEPS_OF_LONG if length >= _LONG_SECONDS * rate else _SWEEPS
        for column, channel in enumerate(channels):
            wave = around[left:right, channel]
            made[:, column] = interpolated(wave, start - left, stop - left, order, sweeps, noise_share)[0]
        return made
    others = donated(around, start, stop, channels, np.asarray(damage.any(axis=1)), rate, reach)
    intact = [c for c in range(around.shape[1]) if not damage[start:stop, c].any()]
    outside = np.ones(right - left, np.bool_)
    outside[reach : reach + length] = False
    for column, channel in enumerate(channels):
        wave = around[left:right, channel]
        laid = [other[:, column] for other in others]
        laid += [heard_elsewhere(wave, around[left:right, c], outside) for c in intact]
        experts = [Expert(other) for other in laid if np.abs(other).max() > _FINEST]
        experts += _cycles(around[:, channel], start, stop, order, noise_share, rate, reach)
        made[:, column] = agreed(wave, reach, reach + length, order, noise_share, experts, rate)
    return made


def _cycles(wave: Wave, start: int, stop: int, order: int, noise_share: float, rate: int, reach: int) -> list[Expert]:
    """Return what the cycles of a voice say of a gap, if there is one and they say more than prediction."""
    if stop - start < _LEAST_FOR_CYCLES_SECONDS * rate:
        return []
    further = reach + stop - start
    left, right = max(0, start - further), min(len(wave), stop + further)
    near, begin, end = wave[left:right], start - left, stop - left
    other = pitch_synchronous.continued(near, begin, end, rate)
    if other is None:
        return []
    trust, errors = pitch_synchronous.tried(near, begin, end, order, noise_share, rate)
    return [Expert(other[begin - reach : end + reach], _CYCLES_COUNT * trust, errors)] if trust > 0 else []


def _noise_share(seconds: float) -> float:
    """Return the noise that is added in thought: more for long gaps, over which only the loud tones can be foretold."""
    ends = np.log([_SHORT_SECONDS, _LONG_SECONDS]), np.log([NOISE_SHARE, _NOISE_SHARE_OF_LONG])
    return float(np.exp(np.interp(np.log(max(seconds, 1e-6)), *ends)))


HOW = Rebuilding(
    rebuild,
    context_seconds=lambda parameters: 0.3 if parameters["using"] == "prediction" else 6.5,
    minds=("click", "mouth_click", "dropout"),
    reach=lambda parameters: float(parameters["crossfade_ms"]) / 1000,
)

METHOD = Method(
    name="bridge",
    title="Bridge",
    summary="Rebuilds a gap of up to 0.3 s from both sides of it, like sound nearby, and intact channels.",
    parameters=(
        Parameter(
            "crossfade_ms",
            "number",
            0.0,
            "how much more is rebuilt on either side, going over into what is there",
            unit="ms",
            low=0.0,
            high=50.0,
        ),
        Parameter(
            "using",
            "choice",
            "auto",
            "what it is rebuilt from: both sides alone, or also like sound nearby and intact channels",
            choices=("auto", "prediction", "donors"),
        ),
    ),
    does=HOW,
)
