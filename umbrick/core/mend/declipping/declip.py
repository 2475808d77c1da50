"""Declipping: rebuilds the samples that stand on a rail, beyond it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from umbrick.core.mend.declipping import consensus, curve, prediction, sparse
from umbrick.core.mend.declipping.soft_knee import DEEPEST_DB, MOST_STRETCH, Knee, rails_of, straightened
from umbrick.core.mend.filling.intact_channel import helped
from umbrick.core.mend.method import Excerpt, Method, Rebuilding
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.model.bounds import Bounds, Mask, Wave, spans_in
from umbrick.core.units import db_to_amplitude

_REFINING_ORDER = 256
_KNEE_REACH_SECONDS = 0.01


def rebuild(
    excerpt: Excerpt, parameters: Parameters, is_cancelled: Callable[[], bool] = lambda: False
) -> npt.NDArray[np.float64]:
    """Return the excerpt with its target samples rebuilt at or beyond the rail they stand on.

    Parameters
    ----------
    excerpt : Excerpt
        ``damage`` marks the clipped samples. Channels are rebuilt one by one; ``auto`` then asks those that have the
        sound intact.
    parameters : Parameters
        ``rail_dbfs``: ``auto`` takes the damage as marked; a level in dBFS takes the samples at or beyond it, on
        both sides of zero, instead. ``using``: ``curve``, ``prediction``, ``sparse``, or ``auto``, what the others
        agree on.
        ``knee_db`` and ``knee_stretch``: where the sound was bent below the rail, that is straightened first, as far
        as the swing goes that reached it.
    is_cancelled : callable
        CancelledError is raised soon after it says so.
    """
    before = excerpt.samples.astype(np.float64)
    samples = before.copy()
    damage = excerpt.damage
    target = excerpt.target
    rail_dbfs = parameters.get("rail_dbfs", "auto")
    if rail_dbfs != "auto":
        damage = np.abs(samples) >= db_to_amplitude(float(rail_dbfs)) * (1 - 1e-6)
        target = target & damage
    using = str(parameters.get("using", "auto"))
    knee = Knee(float(parameters.get("knee_db", 0.0)), float(parameters.get("knee_stretch", 1.0)))
    for channel in range(samples.shape[1]):
        wanted = target[:, channel]
        if not wanted.any():
            continue
        wave = before[:, channel]
        clipped = damage[:, channel]
        if knee.below_db > 0:
            bent, wave = wave, straightened(wave, rails_of(wave, clipped), knee)
            wanted = _swings_of(wanted, clipped | (wave != bent), bent >= 0)
        rebuilt = _rebuild_wave(wave, clipped, excerpt.rate, using, is_cancelled)
        if using == "auto" and not clipped.all():
            others = [(before[:, other], damage[:, other]) for other in range(before.shape[1]) if other != channel]
            rebuilt = helped(rebuilt, clipped, Bounds.of(wave, clipped), others, excerpt.rate, is_cancelled)
        samples[wanted, channel] = rebuilt[wanted]
    return samples


def _swings_of(wanted: Mask, changed: Mask, is_above: Mask) -> Mask:
    """Return what is changed in the swings, to one side of zero, that hold something wanted."""
    swings = np.zeros_like(changed)
    for side in (is_above, ~is_above):
        for start, stop in zip(*spans_in(changed & side), strict=True):
            swings[start:stop] = wanted[start:stop].any()
    return swings | wanted


def _rebuild_wave(wave: Wave, clipped: Mask, rate: int, using: str, is_cancelled: Callable[[], bool]) -> Wave:
    if clipped.all():
        return wave
    if using == "auto":
        return consensus.rebuild(wave, clipped, rate, is_cancelled)
    if using == "curve":
        return curve.rebuild(wave, clipped)
    if using == "prediction":
        return prediction.rebuild(wave, clipped, is_cancelled=is_cancelled)
    first = sparse.rebuild(wave, clipped, rate, is_cancelled=is_cancelled)
    return prediction.rebuild(wave, clipped, start=first, order=_REFINING_ORDER, sweeps=1, is_cancelled=is_cancelled)


METHOD = Method(
    name="declip",
    title="Declip",
    summary="Rebuilds clipped samples beyond the rail they were cut off at.",
    parameters=(
        Parameter(
            "rail_dbfs",
            "number",
            "auto",
            "the level at which the sound was cut off; auto takes what the survey found",
            choices=("auto",),
            unit="dBFS",
            low=-60.0,
            high=24.0,
        ),
        Parameter(
            "using",
            "choice",
            "auto",
            "how the missing samples are found; auto is what the others agree on",
            choices=("auto", "curve", "prediction", "sparse"),
        ),
        Parameter(
            "knee_db",
            "number",
            0.0,
            "how far below the rail the sound is bent already; 0 if it is not",
            unit="dB",
            low=0.0,
            high=DEEPEST_DB,
        ),
        Parameter(
            "knee_stretch",
            "number",
            2.0,
            "how many times steeper the sound was there than what is left of it",
            low=1.0,
            high=MOST_STRETCH,
        ),
    ),
    does=Rebuilding(
        rebuild,
        context_seconds=0.2,
        minds=("clipping",),
        reach=lambda parameters: _KNEE_REACH_SECONDS if float(parameters.get("knee_db", 0.0)) > 0 else 0.0,
        wants_marks=True,
    ),
)
