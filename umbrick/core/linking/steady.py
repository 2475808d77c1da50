"""A recording whose clock drifts, as it would be on the clock of its set: resampled by some millionths.

References
----------
Smith, J. O., Gossett, P.: "A flexible sampling-rate conversion method", IEEE ICASSP 1984 (a windowed sinc, tabulated).
"""

from __future__ import annotations

from functools import cache

import numpy as np
import numpy.typing as npt

from umbrick.core.linking.clock import PPM
from umbrick.core.sound.source import Samples, Source, check_span

_HALF = 32
"""Samples on either side that each one is made from."""
_PHASES = 1024
_BETA = 12.0

Wave = npt.NDArray[np.float64]


class Steady:
    """A source without its drift; frame 0 stays frame 0.

    Parameters
    ----------
    source : Source
    drift_ppm : float
        By how many millionths its clock counts faster than it should.
    """

    def __init__(self, source: Source, drift_ppm: float) -> None:
        self._source = source
        self._step = 1.0 + drift_ppm * PPM
        self.rate, self.channels = source.rate, source.channels
        self.frames = int(source.frames / self._step)
        self.key = f"{source.key} without {drift_ppm!r} ppm"

    @property
    def available(self) -> int:
        """Frames that can be read without waiting."""
        return max(0, int((self._source.available - _HALF) / self._step))

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames as float32."""
        return self.read_exact(start, stop).astype(np.float32)

    def read_exact(self, start: int, stop: int) -> Wave:
        """Return the frames as float64."""
        check_span(start, stop, self.frames)
        at = np.arange(start, stop) * self._step
        whole = np.floor(at).astype(np.int64)
        if not len(at):
            return np.zeros((0, self.channels))
        first, last = int(whole[0]) - _HALF + 1, int(whole[-1]) + _HALF + 1
        begin, end = max(0, first), min(last, self._source.frames)
        sound = np.pad(self._source.read_exact(begin, end), ((begin - first, last - end), (0, 0)))
        place = (at - whole) * _PHASES
        row = np.minimum(place.astype(np.int64), _PHASES - 1)
        share = (place - row)[:, np.newaxis]
        table = _table()
        taps = (1 - share) * table[row] + share * table[row + 1]
        windows = np.lib.stride_tricks.sliding_window_view(sound, 2 * _HALF, axis=0)[whole - int(whole[0])]
        return np.einsum("nct,nt->nc", windows, taps)


@cache
def _table() -> Wave:
    """Return the taps at each phase between two samples, and one more: shape ``(phases + 1, 2 · half)``."""
    phases = np.arange(_PHASES + 1)[:, np.newaxis] / _PHASES
    distance = np.arange(-_HALF + 1, _HALF + 1)[np.newaxis, :] - phases
    window = np.i0(_BETA * np.sqrt(np.clip(1 - (distance / _HALF) ** 2, 0, None))) / np.i0(_BETA)
    return np.asarray(np.sinc(distance) * window)
