"""How much a seam jumps in level, slope and spectrum, against the jumps that the recording makes by itself."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import Source

Wave = npt.NDArray[np.float64]

_FRAME_SECONDS = 0.02
_REACH_SECONDS = 4.0
_LOWEST_HZ = 60.0
_BANDS_AN_OCTAVE = 3
_FLOOR_DB = -60.0
"""Bands this far below the loudest of both frames are not heard beside it: their differences do not count."""

_ORDER = 3
_SILENCE = 1e-12
_USUAL = 0.1
"""A jump no rarer than this among the recording's own counts as one of them."""


class Jumps(NamedTuple):
    """Three jumps from one stretch of sound to the next.

    ``level_db`` is the difference of the power, ``slope`` the largest third difference of the samples across the
    join, ``spectral_db`` the difference of the third-octave spectra (root mean square over bands, in dB): of both
    stretches, or of one of them and the stretch that lies across the join, whichever is largest. A click at the join
    shows in the latter.
    """

    level_db: float
    slope: float
    spectral_db: float


class SeamReading(NamedTuple):
    """A seam measured: its jumps, and for each the share of the recording's own that are at least as large.

    ``score`` is 1 if each of the three is among the largest tenth of the recording's own or smaller, and falls to 0
    where one is larger than all of them.
    """

    level_db: float
    slope: float
    spectral_db: float
    level_share: float
    slope_share: float
    spectral_share: float

    @property
    def smoothness(self) -> float:
        """How little the wave itself jumps, from 0 to 1: the slope alone.

        That is what counts where a loop meets its own start, whose first beat may well be a jump of level.
        """
        return min(1.0, self.slope_share / _USUAL)

    @property
    def score(self) -> float:
        """How little the seam stands out, from 0 to 1."""
        return min(1.0, min(self.level_share, self.slope_share, self.spectral_share) / _USUAL)


class OwnJumps:
    """The jumps from frame to frame that a recording makes by itself around a place.

    Parameters
    ----------
    source : Source
    start, stop : int
        The place, whose own sound is left out.
    """

    def __init__(self, source: Source, start: int, stop: int) -> None:
        self._rate = source.rate
        self.frame = frame_length(source.rate)
        reach = round(_REACH_SECONDS * source.rate)
        before = source.read(max(0, start - reach), start).astype(np.float64)
        after = source.read(stop, min(source.frames, stop + reach)).astype(np.float64)
        found = [_own_jumps(side, self.frame, self._rate) for side in (before, after)]
        self._own = np.sort(np.concatenate(found), axis=0)

    def read(self, before: Wave, after: Wave) -> SeamReading:
        """Return how a seam between two stretches of sound measures; both are cut to two frames at the seam."""
        length = 2 * self.frame
        found = jumps(before[-length:], after[:length], self._rate)
        return SeamReading(*found, *(self._share(column, value) for column, value in enumerate(found)))

    @property
    def usual(self) -> Jumps:
        """The median of the recording's own jumps of each kind; 1 where there is too little sound to tell."""
        return Jumps(*np.median(self._own, axis=0).tolist()) if len(self._own) else Jumps(1.0, 1.0, 1.0)

    def _share(self, column: int, value: float) -> float:
        own = self._own[:, column]
        return float(len(own) - np.searchsorted(own, value)) / len(own) if len(own) else 1.0


def frame_length(rate: int) -> int:
    """Return the frames of half of one of the two stretches that are compared."""
    return max(8, round(_FRAME_SECONDS / 2 * rate))


def jumps(before: Wave, after: Wave, rate: int) -> Jumps:
    """Return the jumps between two stretches of sound that follow each other, shape ``(frames, channels)`` each."""
    count = min(len(before), len(after))
    if not count:
        return Jumps(0.0, 0.0, 0.0)
    before, after, half = before[-count:], after[:count], count // 2
    across = np.concatenate([before[half:], after[:half]])[:count] if count > 1 else before
    stretches = np.stack([before, across, after])
    join = np.concatenate([before[-_ORDER:], after[:_ORDER]])
    slope = float(np.abs(np.diff(join, _ORDER, axis=0)).max()) if len(join) > _ORDER else 0.0
    levels_db = _levels_db(stretches)
    distances = spectral_distances_db(*[band_powers(stretches, rate)] * 2)
    return Jumps(float(abs(levels_db[2] - levels_db[0])), slope, float(distances.max()))


def band_powers(stretches: Wave, rate: int) -> Wave:
    """Return the power in each third of an octave from 60 Hz up, all channels together.

    Parameters
    ----------
    stretches : ndarray, shape (n, frames, channels)
    rate : int

    Returns
    -------
    ndarray, shape (n, bands)
    """
    count = stretches.shape[1]
    window = np.hanning(count + 2)[1:-1, np.newaxis]
    power = (np.abs(np.fft.rfft(stretches * window, axis=1)) ** 2).sum(axis=2) / max(1, count)
    frequencies = np.fft.rfftfreq(count, 1 / rate)
    octaves = np.log2(max(rate / 2 / _LOWEST_HZ, 2.0))
    edges = _LOWEST_HZ * 2 ** (np.arange(int(octaves * _BANDS_AN_OCTAVE) + 2) / _BANDS_AN_OCTAVE)
    firsts = np.unique(np.searchsorted(frequencies, edges))
    firsts = firsts[firsts < len(frequencies)]
    return np.asarray(np.add.reduceat(power, np.union1d([0], firsts), axis=1))


def spectral_distances_db(one: Wave, two: Wave) -> Wave:
    """Return the distance of every spectrum of ``one`` from every one of ``two``, both of shape ``(n, bands)``."""
    return _distances_db(one[:, np.newaxis, :], two[np.newaxis])


def _distances_db(one: Wave, two: Wave) -> Wave:
    loudest = np.maximum(one.max(axis=-1), two.max(axis=-1))[..., np.newaxis]
    floor = loudest * 10 ** (_FLOOR_DB / 10) + 1e-18
    return np.asarray(np.sqrt(np.mean((10 * np.log10((one + floor) / (two + floor))) ** 2, axis=-1)))


def _own_jumps(sound: Wave, frame: int, rate: int) -> Wave:
    """Return the jumps between all neighbouring stretches of two frames, shape ``(n, 3)``."""
    frames = len(sound) // frame
    if frames < 4:
        return np.zeros((0, 3))
    whole = sound[: frames * frame].reshape(frames, frame, -1)
    stretches = np.concatenate([whole[:-1], whole[1:]], axis=1)
    powers = band_powers(stretches, rate)
    spectral = np.max([_distances_db(powers[:-2], powers[2:]), _distances_db(powers[:-2], powers[1:-1]),
                       _distances_db(powers[1:-1], powers[2:])], axis=0)  # fmt: skip
    levels_db = _levels_db(stretches)
    third = np.abs(np.diff(sound, _ORDER, axis=0)).max(axis=1)
    joins = frame * np.arange(2, frames - 1)
    slopes = np.max([third[joins - _ORDER + at] for at in range(_ORDER)], axis=0)
    return np.stack([np.abs(levels_db[2:] - levels_db[:-2]), slopes, spectral], axis=1)


def _levels_db(stretches: Wave) -> Wave:
    return np.asarray(10 * np.log10(np.mean(stretches**2, axis=(1, 2)) + _SILENCE))
