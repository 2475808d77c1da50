"""Where damage truly begins and ends: a detector sees a click's loudest part, not where it fades into the sound."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.linalg import LinAlgError, cholesky, toeplitz

from umbrick.core.model.autoregression import Model, autocorrelation
from umbrick.core.model.interpolation import interpolated

Wave = npt.NDArray[np.float64]

_BEFORE_SECONDS, _AFTER_SECONDS = 0.0005, 0.0015
_GROW_BEFORE_SECONDS, _GROW_AFTER_SECONDS = 0.0004, 0.0008
_BESIDE_SECONDS = 0.006
_ROUNDS = 3
SWEEPS = 2
"""How often model and samples are estimated."""

_COST_OF_DAMAGED, _COST_OF_UNLIKELY = 6.0, 40.0
"""In nats: what it costs to say of a sample that it is damaged, as its value then tells nothing; and what an unlikely
one costs at most, as errors of prediction have heavier tails than Gauss's, above all at the pulses of a voice."""

_ORDER_A_SAMPLE = 8
_LEAST_ORDER, _MOST_ORDER = 64, 512
MOST_ORDER_FOR_EDGES = 192
"""A model that looks back over a turn of the pitch takes the next turn's onset for damage."""
_CONTEXT_ORDERS = 5
_LEAST_CONTEXT = 1024
_LENGTH_STEP = 256


class Extent(NamedTuple):
    """Where damage begins and ends (half open), and what is expected there instead, if the last look was at just that
    and with the model that :func:`order_for` asks for."""

    start: int
    stop: int
    expected: Wave | None = None


def order_for(length: int) -> int:
    """Return how many samples a predictor should look back to rebuild damage of some length."""
    return int(np.clip(_ORDER_A_SAMPLE * length, _LEAST_ORDER, _MOST_ORDER))


def context_of(start: int, stop: int, order: int, frames: int) -> tuple[int, int]:
    """Return the stretch of so many frames that a predictor for a place is estimated from.

    Its length is one of a few, so that windows and transforms of the same length serve many places.
    """
    reach = max(_CONTEXT_ORDERS * order, _LEAST_CONTEXT)
    length = -(-(stop - start + 2 * reach) // _LENGTH_STEP) * _LENGTH_STEP
    return max(0, start - reach), min(frames, start - reach + length)


def extent(wave: Wave, start: int, stop: int, rate: int) -> Extent:
    """Return where the damage that was found in ``start`` to ``stop`` begins and ends (half open).

    A window wider than what was found is taken for unknown and interpolated; then each of its samples, from the edges
    inward, is compared with what the model expects of it given all samples outside and those passed already. From
    either side the damage begins where it is cheapest to say so: a sample that is sound costs as much as it
    surprises, one that is damaged costs a fixed sum. An attack beside a click surprises for a few samples only, and
    stays. With the narrower window this is done again.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    start, stop : int
        What was found, a few milliseconds at most.
    rate : int

    Notes
    -----
    The comparison is exact for a Gaussian autoregressive process (innovations by the Cholesky factor of the
    posterior covariance), the choice one of description length (J. Rissanen, 1978); the use of both to find the edges
    of clicks is ours.
    """
    first = max(0, start - max(2, round(_BEFORE_SECONDS * rate)))
    last = min(len(wave), stop + max(2, round(_AFTER_SECONDS * rate)) + stop - start)
    # An edge seen from outside is believed: a narrower window, all of it damaged, is no reason to look further out.
    is_seen_left = is_seen_right = False
    for number in range(_ROUNDS):
        order = min(order_for(last - first), MOST_ORDER_FOR_EDGES)
        left, right = context_of(first, last, order, len(wave))
        around = wave[left:right].copy()
        filled, model = interpolated(around, first - left, last - left, order, SWEEPS)
        if model is None:
            return Extent(start, stop)
        actual = around[first - left : last - left].copy()
        around[first - left : last - left] = filled
        power = error_power_beside(around, first - left, last - left, model, rate)
        found = max(0, start - first), min(last, stop) - first
        unlikely = _unlikely_edges(actual - filled, model, power, found)
        if unlikely is None:
            return Extent(start, stop)
        begin, end = unlikely
        narrowed = first + begin, first + end
        if number < _ROUNDS - 1:
            if begin == 0 and not is_seen_left:
                narrowed = max(0, first - round(_GROW_BEFORE_SECONDS * rate)), narrowed[1]
            if end == last - first and not is_seen_right:
                narrowed = narrowed[0], min(len(wave), last + round(_GROW_AFTER_SECONDS * rate))
        is_seen_left, is_seen_right = is_seen_left or begin > 0, is_seen_right or end < last - first
        if narrowed == (first, last):
            is_as_asked = order == order_for(last - first)
            return Extent(first, last, filled if is_as_asked else None)
        first, last = narrowed
    return Extent(first, last)


def _unlikely_edges(difference: Wave, model: Model, power: float, found: tuple[int, int]) -> tuple[int, int] | None:
    """Return the first and the end of what is better taken for damaged, at least a part of what was found.

    None if no more than chance is seen, or nothing can be said.
    """
    column = autocorrelation(model.error_filter, len(difference))
    column[0] *= 1.0 + 1e-9
    try:
        factor = cholesky(toeplitz(column), lower=True, check_finite=False).T
    except LinAlgError:
        return None
    # The precision is the same read backwards, so its factor serves for both directions: multiplying by it is what
    # solving with the factor of the covariance would be.
    from_left, from_right = (np.square((factor @ one)[::-1]) / (2 * power) for one in (difference[::-1], difference))
    if max(from_left.max(), from_right.max()) <= _COST_OF_DAMAGED:
        return None
    begin = _outside(from_left[: found[1] - 1])
    end = len(difference) - _outside(from_right[: len(difference) - found[0] - 1])
    # Seen from the right, a single wrong sample may seem to begin after it seemed to end from the left.
    return (begin, end) if begin < end else (min(begin, end - 1), max(begin + 1, end))


def _outside(surprises: Wave) -> int:
    """Return how many samples, from the first on, are better taken for sound than for damage."""
    costs = np.cumsum(np.minimum(surprises, _COST_OF_UNLIKELY) - _COST_OF_DAMAGED)
    return int(np.argmin(costs)) + 1 if len(costs) and costs.min() < 0 else 0


def error_power_beside(wave: Wave, start: int, stop: int, model: Model, rate: int) -> float:
    """Return the mean square of the prediction error within 6 ms of a gap on both sides."""
    order, reach = model.order, round(_BESIDE_SECONDS * rate)
    errors = np.convolve(wave, model.error_filter, "valid")
    before = errors[max(0, start - reach - order) : max(0, start - order)]
    after = errors[stop : max(stop, stop + reach - order) + order]
    beside = np.concatenate([before, after])
    return float(np.mean(beside**2)) + 1e-20 if len(beside) else model.error_power
