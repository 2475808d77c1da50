"""Whether the tones before a hole go on after it, at their pitch and in phase, as nothing but the same sound does."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import next_fast_len, rfft

from umbrick.core.filters.windows import hann
from umbrick.core.model.parabola import top_of

Wave = npt.NDArray[np.float64]

_WINDOW_SECONDS, _LEAST_SECONDS = 0.04, 0.006
_MOST_TONES = 10
_FAINTEST = 0.03
"""A tone stands out at least so far beside the strongest."""

_MOST_ADVANCE = 0.25
_MOST_CHANGE = 0.7
"""A steady tone keeps its frequency to this share of a turn in a window, and its level to a factor of two."""


class TonesAcross(NamedTuple):
    """What the steady tones on one side of a hole say of its other side.

    ``share`` is how much of the sound's power is in them; ``likeness`` how they compare with what is there, from −1 to
    1, 1 being the same tones in phase; ``doubt`` how many radians their phase may be wrong by, across the hole.
    """

    share: float
    likeness: float
    doubt: float


NOTHING = TonesAcross(0.0, 0.0, np.inf)


def tones_across(before: Wave, after: Wave, frames: int, rate: int) -> TonesAcross:
    """Return what the tones of one side say of the other side of a hole of so many frames; of the surer side.

    Parameters
    ----------
    before, after : ndarray
        One channel on either side, as far as there is sound without a pause.
    frames : int
        Length of the hole.
    rate : int

    Notes
    -----
    Frequencies are those of parabolas through the tops of a spectrum, and are made exact by how far the phase turns
    from one window to the next.
    """
    sides = _from(before, after, frames, rate), _from(after[::-1], before[::-1], frames, rate)
    return max(sides, key=lambda side: side.share)


def _from(before: Wave, after: Wave, frames: int, rate: int) -> TonesAcross:
    size = int(min(_WINDOW_SECONDS * rate, len(before) // 2, len(after)))
    if size < max(16, _LEAST_SECONDS * rate):
        return NOTHING
    window = hann(size)
    earlier, last, first = before[-2 * size : -size], before[-size:], after[:size]
    frequencies = _frequencies(last * window)
    if not len(frequencies):
        return NOTHING
    turning = _turning(frequencies, window)
    was, now, then = (turning @ part for part in (earlier, last, first))
    advance = np.angle(now * np.conj(was) * np.exp(-2j * np.pi * frequencies * size)) / (2 * np.pi * size)
    change = np.abs(np.log((np.abs(now) + 1e-12) / (np.abs(was) + 1e-12)))
    steady = (np.abs(advance) < _MOST_ADVANCE / size) & (change < _MOST_CHANGE)
    if not steady.any():
        return NOTHING
    now, then, advance = now[steady], then[steady], advance[steady]
    distance = size + frames
    expected = now * np.exp(2j * np.pi * (frequencies[steady] + advance) * distance)
    power = float(np.square(np.abs(expected)).sum())
    share = power / 2 / (_power(last, window) + 1e-15)
    there = max(float(np.square(np.abs(then)).sum()), 2 * _power(first, window) * min(1.0, share))
    likeness = float((np.conj(expected) * then).real.sum() / (np.sqrt(power * there) + 1e-15))
    doubt = np.sqrt(np.square(np.abs(now) * 2 * np.pi * advance * distance).sum() / (power + 1e-15))
    return TonesAcross(share, likeness, float(doubt))


def _frequencies(windowed: Wave) -> Wave:
    """Return the frequencies of the strongest tones, in turns a sample."""
    size = next_fast_len(4 * len(windowed), real=True)
    strength = np.abs(rfft(windowed, size))
    tops = np.flatnonzero((strength[1:-1] > strength[:-2]) & (strength[1:-1] >= strength[2:])) + 1
    tops = tops[strength[tops] > _FAINTEST * strength.max()]
    tops = tops[np.argsort(-strength[tops], kind="stable")][:_MOST_TONES]
    left, top, right = (np.log(strength[tops + shift] + 1e-12) for shift in (-1, 0, 1))
    return np.asarray((tops + top_of(left, top, right)) / size)


def _turning(frequencies: Wave, window: Wave) -> npt.NDArray[np.complex128]:
    """Return what gives, of a part as long as the window, the amplitudes of tones at its middle; a row for each."""
    turns = np.outer(frequencies, np.arange(len(window)) - (len(window) - 1) / 2)
    return np.asarray(np.exp(-2j * np.pi * turns) * (window * 2 / window.sum()))


def _power(part: Wave, window: Wave) -> float:
    return float(np.square(part * window).sum() / np.square(window).sum())
