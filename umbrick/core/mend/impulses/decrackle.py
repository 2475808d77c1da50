"""Decrackling: rebuilds many small impulses over a stretch, and leaves what the music itself strikes."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import numpy.typing as npt
from scipy.ndimage import binary_dilation, maximum_filter1d, median_filter

from umbrick.core.errors import CancelledError
from umbrick.core.mend.method import Excerpt, Method, Rebuilding
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.model.autoregression import modelled
from umbrick.core.model.bounds import Mask, Wave, spans_in
from umbrick.core.model.interpolation import bridged_over
from umbrick.core.model.sparse_damage import without_damage
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.impulses.residual import residuals
from umbrick.core.survey.streaming import blocks

_GENTLEST, _KEENEST = 24.0, 5.0
"""By how much an impulse must stand out of the residual around it, with the amount 0 and 1."""

_BIN_SECONDS = 0.001
_BESIDE_BINS = 5
"""So many milliseconds on either side are asked how large the residual usually is, and the louder side is believed:
after an attack, that is the attack's own sound."""

_OWN_BINS = 1

_ROBUST = 0.6745
_PASSES = 2
_EDGE_SHARE = 0.4
_RING_SAMPLES, _RING_SHARE = 64, 0.1
_BEFORE_SECONDS, _AFTER_SECONDS = 0.0001, 0.0002
"""What is looked at beside what stands out: an impulse begins at once, and dies away."""

_ORDER, _LEAST_ORDER, _CONTEXT = 96, 8, 1024
"""Enough for the fraction of a millisecond that a crackle lasts; hundreds of them a second have to be mended."""

_BESIDE_SECONDS = 0.005
"""So much of the sound on either side tells how large the error of prediction is."""

_MOST_AT_ONCE = 240


def rebuild(
    excerpt: Excerpt, parameters: Parameters, is_cancelled: Callable[[], bool] = lambda: False
) -> npt.NDArray[np.float64]:
    """Return the excerpt with the small impulses in its target rebuilt.

    Parameters
    ----------
    excerpt : Excerpt
        Channels are rebuilt one by one.
    parameters : Parameters
        ``amount``, from 0 (just what stands out by far) to 1 (whatever might be damage).
    is_cancelled : callable
        CancelledError is raised soon after it says so.

    References
    ----------
    Impulses are told by the residual of linear prediction from both sides (S. V. Vaseghi, P. J. W. Rayner, 1990),
    against a robust local scale; how much of each sample is damage, by :mod:`umbrick.core.model.sparse_damage`.
    """
    samples = excerpt.samples.astype(np.float64)
    factor = _GENTLEST * (_KEENEST / _GENTLEST) ** float(parameters.get("amount", 0.5))
    for channel in range(samples.shape[1]):
        target = excerpt.target[:, channel]
        if not target.any():
            continue
        damaged = samples[:, channel].copy()
        mended, looked_at = damaged.copy(), np.zeros(len(damaged), np.bool_)
        for _ in range(_PASSES):
            found = _with_surroundings(_impulses(mended, excerpt.rate, factor), excerpt.rate) & target
            # A neighbour that is not mended yet must not spoil the model.
            mended = bridged_over(mended, found & ~looked_at)
            looked_at |= found
            for start, stop in _stretches(looked_at):
                if is_cancelled():
                    raise CancelledError
                mended[start:stop] = _mended(damaged, mended, start, stop, excerpt.rate)
        samples[:, channel] = mended
    return samples


def _with_surroundings(damage: Mask, rate: int) -> Mask:
    """Return what is damaged together with what is close before and after it."""
    before, after = round(_BEFORE_SECONDS * rate), round(_AFTER_SECONDS * rate)
    reach = max(before, after)
    near = np.zeros(2 * reach + 1, np.bool_)
    near[reach - before : reach + after + 1] = True
    return np.asarray(binary_dilation(damage, near))


def _stretches(looked_at: Mask) -> Iterator[tuple[int, int]]:
    for start, stop in zip(*(edges.tolist() for edges in spans_in(looked_at)), strict=True):
        for first in range(start, stop, _MOST_AT_ONCE):
            yield first, min(stop, first + _MOST_AT_ONCE)


def _mended(damaged: Wave, mended: Wave, start: int, stop: int, rate: int) -> Wave:
    """Return a stretch without its damage, modelled by what is around it as far as that is mended.

    In silence, the straight line over it stays; at the very ends of the sound, what was there: nothing tells that it is
    damage.
    """
    order = min(_ORDER, start, len(mended) - stop)
    if order < _LEAST_ORDER:
        return damaged[start:stop]
    model = modelled(mended[max(0, start - _CONTEXT) : stop + _CONTEXT], order)
    if model is None or model.order < _LEAST_ORDER:
        return mended[start:stop]
    beside = round(_BESIDE_SECONDS * rate) + model.order
    errors = np.convolve(mended[max(0, start - beside) : stop + beside], model.error_filter, "valid")
    return without_damage(damaged, mended, start, stop, model, float(np.mean(errors**2)) + 1e-16)


def _impulses(wave: Wave, rate: int, factor: float) -> Mask:
    """Return which samples stand out of what can be foretold from both sides."""
    damage = np.zeros(len(wave), np.bool_)
    source = ArraySource(wave.astype(np.float32)[:, np.newaxis], rate, "excerpt")
    size = max(4, round(_BIN_SECONDS * rate))
    for block in blocks(source):
        residual = residuals(block)[0]
        error = np.abs(residual.error)
        count = len(error) // size
        medians = np.median(error[: count * size].reshape(count, size), axis=1)
        scale = np.repeat(_beside(medians), size) / _ROBUST
        error = error[: len(scale)]
        high = np.flatnonzero(error > factor * scale)
        # A strong impulse rings through the filter on both sides: only what is near its own height is its own.
        nearby = maximum_filter1d(error, 2 * _RING_SAMPLES + 1)
        loud = error > np.maximum(_EDGE_SHARE * factor * scale, _RING_SHARE * nearby)
        edges = spans_in(loud)
        holds = np.unique(np.searchsorted(edges[0], high, "right") - 1)
        for start, stop in zip(edges[0][holds].tolist(), edges[1][holds].tolist(), strict=True):
            first, last = residual.first + start, residual.first + stop
            if first < block.stop and last > block.start:
                damage[max(first, 0) : last] = True
    return damage


def _beside(medians: npt.NDArray[np.float32]) -> npt.NDArray[np.float32]:
    """Return for each bin how large the residual is on its louder side, the bin itself and the next left out."""
    usual = median_filter(medians, _BESIDE_BINS, mode="nearest")
    shift = _OWN_BINS + 1 + _BESIDE_BINS // 2
    padded = np.pad(usual, shift, mode="edge")
    return np.asarray(np.maximum(padded[: len(usual)], padded[2 * shift :]))


METHOD = Method(
    name="decrackle",
    title="Decrackle",
    summary="Rebuilds many small impulses over a stretch; attacks and plucked strings stay.",
    parameters=(
        Parameter(
            "amount",
            "number",
            0.5,
            "how much is taken for crackle: 0 just what stands out by far, 1 whatever might be",
            low=0.0,
            high=1.0,
        ),
    ),
    does=Rebuilding(rebuild, context_seconds=0.25),
)
