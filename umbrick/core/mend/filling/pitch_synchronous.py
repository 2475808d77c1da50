"""Going on with the pitch: what a gap in a voice holds if its cycles go over from those before into those after.

Linear prediction goes on with tones of a steady pitch, and over some tens of milliseconds a voice's pitch glides by
more than a turn of its upper harmonics. Its waveform is much the same from cycle to cycle all the same.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy
from scipy.ndimage import map_coordinates

from umbrick.core.measure.vertex import vertex
from umbrick.core.model.interpolation import interpolated

Wave = npt.NDArray[np.float64]

_SHORTEST_SECONDS, _LONGEST_SECONDS = 0.0022, 0.0165
"""Cycles of the highest and of the lowest voice."""

_HEARD_SECONDS = 0.033
"""Sound on either side that tells its pitch: two cycles of the lowest voice."""

_LEAST_CLARITY = 0.5
_AS_CLEAR = 0.92
"""A sound that repeats after a cycle does so after two as well: the shortest that is about as clear is taken."""

_NEAR = 0.15
_OCTAVES = (1, 2, 3)
_LARGEST_GLIDE = 1.4
_PHASES = 64
_LEAST_LIKENESS = 0.3
_FEWEST_CYCLES = 0.3

_LEAD_DB = (0.0, 6.0)
_TRIAL_SWEEPS = 2


class _Side(NamedTuple):
    """Sound on one side of a gap: where in it the cycle next to the gap begins, how long that is, and its level."""

    sound: Wave
    at: float
    cycle: float
    level: float

    def turned(self, phase: Wave) -> Wave:
        """Return that cycle, going round and round, at some numbers of cycles."""
        at = self.at + (phase % 1) * self.cycle
        return _read(self.sound, np.where(at > len(self.sound) - 1, at - self.cycle, at))


def continued(wave: Wave, start: int, stop: int, rate: int) -> Wave | None:
    """Return a wave like this one but for its cycles: each is the one next to it that is further from the gap.

    In the gap, the last cycle before it goes over into the first after it, while the pitch glides evenly from the one
    to the other, as fast as it must for both to meet in phase. What the wave holds there is not looked at.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        With at least 33 ms on either side of the gap.
    start, stop : int
        The gap.
    rate : int

    Returns
    -------
    ndarray, shape (n,), or None
        None where no pitch is heard on both sides.

    References
    ----------
    Pitch by the normalised square difference: P. McLeod, G. Wyvill, "A smarter way to find pitch", 2005. Cycles that
    stand for missing ones: D. J. Goodman et al., "Waveform substitution techniques for recovering missing speech
    segments in packet voice communications", 1986. That of all whole numbers of cycles the one is taken that bends the
    pitch least: R. J. McAulay, T. F. Quatieri, "Speech analysis/synthesis based on a sinusoidal representation", 1986.
    """
    sides = _sides(wave, start, stop, rate)
    if sides is None:
        return None
    before, after = sides
    phase = _phase(before, after, stop - start)
    if phase is None:
        return None
    forth, back = before.turned(phase[:-1]), after.turned(phase[:-1] - phase[-1])
    share = np.sin(np.pi / 2 * (np.arange(stop - start) + 0.5) / (stop - start)) ** 2
    level = before.level ** (1 - share) * after.level**share
    gone_over = level * ((1 - share) * forth / before.level + share * back / after.level)
    earlier = _read(before.sound, np.arange(start) - before.cycle)
    later = _read(after.sound, np.arange(len(after.sound)) + after.cycle)
    return np.concatenate([earlier, gone_over, later])


class Tried(NamedTuple):
    """How far cycles are to be believed, from 0 to 1, and what they got wrong in each span that they were tried on."""

    trust: float
    errors: tuple[Wave, ...]


def tried(wave: Wave, start: int, stop: int, order: int, noise_share: float, rate: int) -> Tried:
    """Return how cycles do on both sides of a gap, where spans as long as it are filled by them and by prediction.

    Of what is no voice, prediction says more.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Spans that it does not reach are not tried.
    start, stop : int
        The gap.
    order : int
    noise_share : float
        As for :func:`umbrick.core.model.interpolation.interpolated`.
    rate : int
    """
    heard, length = round(_HEARD_SECONDS * rate), stop - start
    leads_db, errors = [], []
    for side, first in ((wave[:start], start - heard - length), (wave[stop:], heard)):
        last = first + length
        if first < heard or last + heard > len(side):
            continue
        truth = side[first:last]
        other = continued(side, first, last, rate)
        error = truth if other is None else truth - other[first:last]
        left = truth - interpolated(side, first, last, order, _TRIAL_SWEEPS, noise_share)[0]
        leads_db.append(10 * np.log10((left @ left + 1e-20) / (error @ error + 1e-20)))
        errors.append(error)
    return Tried(float(np.interp(np.mean(leads_db), _LEAD_DB, (0, 1))) if errors else 0.0, tuple(errors))


def _sides(wave: Wave, start: int, stop: int, rate: int) -> tuple[_Side, _Side] | None:
    """Return the cycles next to a gap; None where no pitch is heard."""
    heard = round(_HEARD_SECONDS * rate)
    if start < heard or stop + heard > len(wave):
        return None
    # Read from the gap outwards, both sides are alike.
    outward = wave[start - heard : start][::-1], wave[stop : stop + heard]
    cycles = [_cycle(side, rate) for side in outward]
    if cycles[0] is None or cycles[1] is None:
        return None
    lengths = _of_one_octave(cycles[0], cycles[1])
    if lengths is None:
        return None
    near, far = (_nearest_cycle(side, length) for side, length in zip(outward, lengths, strict=True))
    levels = [
        float(np.sqrt(np.mean(side[: round(2 * cycle)] ** 2))) for side, cycle in zip(outward, (near, far), strict=True)
    ]
    if min(levels) <= 0:
        return None
    return _Side(wave[:start], start - near, near, levels[0]), _Side(wave[stop:], 0.0, far, levels[1])


def _cycle(side: Wave, rate: int) -> float | None:
    """Return the length of the cycles of a stretch, in frames; None if it has none."""
    shortest, longest = round(_SHORTEST_SECONDS * rate), round(_LONGEST_SECONDS * rate)
    clarity = _clarity(side, np.arange(shortest, longest))
    top = float(clarity.max())
    if top < _LEAST_CLARITY:
        return None
    peaks = 1 + np.flatnonzero((clarity[1:-1] >= clarity[:-2]) & (clarity[1:-1] >= clarity[2:]))
    clear = peaks[clarity[peaks] > _AS_CLEAR * top]
    return float(shortest + (clear[0] if len(clear) else np.argmax(clarity)))


def _clarity(side: Wave, lags: npt.NDArray[np.int64]) -> Wave:
    """Return how alike a stretch is to itself so much later, from −1 to 1."""
    products = scipy.signal.correlate(side, side, method="fft")[len(side) - 1 :][lags]
    sums = np.concatenate([[0.0], np.cumsum(side**2)])
    powers = sums[len(side) - lags] + sums[-1] - sums[lags]
    return np.asarray(2 * products / np.maximum(powers, 1e-20))


def _of_one_octave(one: float, other: float) -> tuple[float, float] | None:
    """Return two lengths of cycles, of which one may be a multiple of what it should be; None if they differ still."""
    for multiple in _OCTAVES:
        for lengths in ((one / multiple, other), (one, other / multiple)):
            if 1 / _LARGEST_GLIDE < lengths[0] / lengths[1] < _LARGEST_GLIDE:
                return lengths
    return None


def _nearest_cycle(side: Wave, length: float) -> float:
    """Return how long the very first cycle of a stretch is, in parts of a frame."""
    count = max(2, int(length))
    lags = np.arange(max(2, int((1 - _NEAR) * length)), int((1 + _NEAR) * length) + 3)
    lags = lags[lags + count <= len(side)]
    if len(lags) < 3:
        return length
    first, rest = side[:count], side[lags[0] : lags[-1] + count]
    sums = np.concatenate([[0.0], np.cumsum(rest**2)])
    powers = sums[count:] - sums[:-count] + float(first @ first)
    likeness = 2 * np.correlate(rest, first, "valid") / np.maximum(powers, 1e-20)
    top = int(np.argmax(likeness))
    if not 0 < top < len(lags) - 1:
        return float(lags[top])
    return float(lags[top]) + vertex(*likeness[top - 1 : top + 2].tolist())


def _phase(before: _Side, after: _Side, length: int) -> Wave | None:
    """Return how many cycles have gone by at each frame of a gap, and at its end; None if the cycles are not alike."""
    turn = np.arange(_PHASES) / _PHASES
    one, other = before.turned(turn), after.turned(turn)
    one, other = one - one.mean(), other - other.mean()
    likeness = np.array([np.roll(one, -shift) @ other for shift in range(_PHASES)])
    shift = int(np.argmax(likeness))
    if likeness[shift] < _LEAST_LIKENESS * np.sqrt((one @ one) * (other @ other)):
        return None
    along = np.linspace(0, 1, length + 1)
    pitch = 1 / before.cycle + (1 / after.cycle - 1 / before.cycle) * along
    by_itself = float(np.trapezoid(pitch))
    cycles = round(by_itself - turn[shift]) + float(turn[shift])
    pitch += (cycles - by_itself) * 6 * along * (1 - along) / length
    if cycles < _FEWEST_CYCLES or pitch.min() <= 0:
        return None
    return np.concatenate([[0.0], np.cumsum((pitch[1:] + pitch[:-1]) / 2)])


def _read(wave: Wave, at: npt.NDArray[np.floating]) -> Wave:
    """Return a wave between its frames, by cubic splines; beyond its ends, its last values."""
    return np.asarray(map_coordinates(wave, at[np.newaxis], order=3, mode="nearest"))
