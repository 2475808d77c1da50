"""Zero crossings, and the length of a wave's cycle: where cuts are least heard."""

from __future__ import annotations

from enum import Enum

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import Source

Wave = npt.NDArray[np.float64]
Integers = npt.NDArray[np.int64]

_REACH_SECONDS = 2.0
"""How far a crossing is looked for."""

_BLOCK_FRAMES = 4096
_LOWEST_HZ, _HIGHEST_HZ = 50.0, 1000.0
_LEAST_LIKENESS = 0.5
_TOLERANCE = 0.15


class Direction(Enum):
    """Which zero crossings are meant."""

    EITHER = "either"
    RISING = "rising"
    FALLING = "falling"


def crossings(wave: npt.NDArray[np.floating], direction: Direction = Direction.EITHER) -> Integers:
    """Return the indices of the samples before which a wave crosses zero.

    A wave rises through zero before sample i if sample i − 1 is negative and i is not; it falls if i − 1 is not
    negative and i is. Samples of exactly zero thus belong to the positive side.
    """
    positive = np.asarray(wave) >= 0
    rising, falling = ~positive[:-1] & positive[1:], positive[:-1] & ~positive[1:]
    chosen = {Direction.EITHER: rising | falling, Direction.RISING: rising, Direction.FALLING: falling}[direction]
    return np.flatnonzero(chosen) + 1


def next_crossing(
    source: Source, channel: int, position: int, step: int, direction: Direction = Direction.EITHER
) -> int | None:
    """Return the next zero crossing of a channel after (``step`` 1) or before (−1) a position.

    None if there is none within two seconds.
    """
    reach = round(_REACH_SECONDS * source.rate)
    for done in range(0, reach, _BLOCK_FRAMES):
        if step > 0:
            start, stop = position + done, min(position + done + _BLOCK_FRAMES + 1, source.frames)
        else:
            start, stop = max(0, position - done - _BLOCK_FRAMES - 1), position - done
        if stop - start < 2:
            return None
        found = start + crossings(source.read(start, stop)[:, channel], direction)
        if len(found):
            return int(found[0] if step > 0 else found[-1])
    return None


def nearest_crossing(
    source: Source, channel: int, position: float, reach: float, direction: Direction = Direction.EITHER
) -> int | None:
    """Return the zero crossing of a channel nearest to a position, None if there is none within ``reach`` frames."""
    start, stop = max(0, int(position - reach) - 1), min(source.frames, int(position + reach) + 2)
    if stop - start < 2:
        return None
    found = start + crossings(source.read(start, stop)[:, channel], direction)
    distance = np.abs(found - position)
    if not len(found) or distance.min() > reach:
        return None
    return int(found[int(distance.argmin())])


def next_cycle(source: Source, channel: int, position: int, step: int) -> int | None:
    """Return where a wave is one cycle after (``step`` 1) or before (−1) a position.

    The cycle is the lag at which the sound is most like itself (normalised autocorrelation, 50 to 1,000 Hz); the
    result is the zero crossing nearest to it. Where the sound has no pitch, it is the next rising crossing.
    """
    rate = source.rate
    window = round(0.04 * rate)
    start, stop = max(0, position - window), min(source.frames, position + window)
    wave = source.read(start, stop)[:, channel].astype(np.float64)
    period = cycle_of(wave, rate)
    if period is None:
        return next_crossing(source, channel, position, step, Direction.RISING)
    target = position + step * period
    if not 0 <= target <= source.frames:
        return None
    found = nearest_crossing(source, channel, target, _TOLERANCE * period)
    return found if found is not None else target


def cycle_of(wave: Wave, rate: int) -> int | None:
    """Return the length of a wave's cycle in frames, or None if it has no pitch."""
    wave = wave - wave.mean()
    shortest, longest = max(2, int(rate / _HIGHEST_HZ)), min(int(rate / _LOWEST_HZ), len(wave) // 2)
    if longest <= shortest or not wave.any():
        return None
    lags = np.arange(shortest, longest + 1)
    spectrum = np.fft.rfft(wave, 2 * len(wave))
    products = np.fft.irfft(np.abs(spectrum) ** 2)[lags]
    power = np.concatenate([[0.0], np.cumsum(wave**2)])
    likeness = products / np.sqrt(power[len(wave) - lags] * (power[-1] - power[lags]) + 1e-30)
    best = float(likeness.max())
    if best < _LEAST_LIKENESS:
        return None
    # The shortest lag that is nearly as good: multiples of a cycle are alike too.
    good = np.flatnonzero(likeness >= 0.9 * best)
    end = good[0]
    while end + 1 < len(likeness) and likeness[end + 1] >= likeness[end]:
        end += 1
    return int(lags[end])
