"""Declipping: rebuilds the samples that stand on a rail, beyond it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from umbrick.core.mend import consensus, curve, prediction, sparse
from umbrick.core.mend.intact_channel import helped
from umbrick.core.mend.method import Excerpt, Method, Parameter, Parameters
from umbrick.core.model.bounds import Bounds, Mask, Wave
from umbrick.core.units import db_to_amplitude

_REFINING_ORDER = 256


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
    for channel in range(samples.shape[1]):
        wanted = target[:, channel]
        if not wanted.any():
            continue
        wave = before[:, channel]
        clipped = damage[:, channel]
        rebuilt = _rebuild_wave(wave, clipped, excerpt.rate, using, is_cancelled)
        if using == "auto" and not clipped.all():
            others = [(before[:, other], damage[:, other]) for other in range(before.shape[1]) if other != channel]
            rebuilt = helped(rebuilt, clipped, Bounds.of(wave, clipped), others, excerpt.rate, is_cancelled)
        samples[wanted, channel] = rebuilt[wanted]
    return samples


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
    ),
    context_seconds=0.2,
    wants_marks=True,
    minds=("clipping",),
    rebuild=rebuild,
)
