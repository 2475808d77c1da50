"""Impulses: places of up to five milliseconds at which the residual stands out from both what is before and after.

An attack, a consonant or the pulse of a voice stands out from what is before it, but what follows is as strong, or
has fellows nearby; damage stands alone. What kind of damage it is, other modules decide.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d

from umbrick.core.survey.detector import Block
from umbrick.core.survey.impulses.residual import MARGIN_SEGMENTS, Residual, residuals

Floats = npt.NDArray[np.float32]
Integers = npt.NDArray[np.int64]

_REACH = 90
"""Bins before and after (30 ms) that an impulse is compared with."""

_FELLOW = 3
"""It is compared with the third highest of the bins on either side: one other click nearby may be there."""

_LONGEST = 15
_BURST_SHARE = 0.35
_LEAST_PROMINENCE = 1.5
_FAINTEST = 3e-5
_END = 4
_LEVEL_SECONDS, _SURROUNDINGS_SECONDS = 0.01, 0.08


class Impulses(NamedTuple):
    """Impulses of one channel as parallel arrays.

    ``peak`` is the index of the strongest sample into the residual, ``start`` and ``stop`` those of the burst, to a
    third of a millisecond. ``prominence`` is the ratio of its residual to the third highest nearby, on the side where
    that is higher; ``amplitude`` that of a single sample that would leave such a residual; ``level`` the RMS level of
    the sound within 10 ms, ``surroundings`` that within 80 ms.
    """

    peak: Integers
    start: Integers
    stop: Integers
    prominence: Floats
    amplitude: Floats
    level: Floats
    surroundings: Floats

    def where(self, rows: Integers) -> Impulses:
        """Return the chosen impulses."""
        peak, start, stop = self.peak[rows], self.start[rows], self.stop[rows]
        levels = self.level[rows], self.surroundings[rows]
        return Impulses(peak, start, stop, self.prominence[rows], self.amplitude[rows], *levels)


def impulses(block: Block) -> list[tuple[Residual, Impulses]]:
    """Return for every channel its residual and the impulses that peak in the block."""
    return [(residual, _impulses(block, residual)) for residual in block.shared(residuals)]


def _impulses(block: Block, residual: Residual) -> Impulses:
    size, bins = residual.bin_frames, residual.peaks
    own_first = MARGIN_SEGMENTS * residual.segment // size
    own_last = own_first + (block.stop - block.start) // size
    is_highest = (bins == maximum_filter1d(bins, 2 * _LONGEST // 2 + 1)) & (bins > _FAINTEST)
    # A quick look first: the bins just outside of the longest burst.
    quiet = maximum_filter1d(bins, 7, origin=0)
    beyond = np.minimum(np.roll(quiet, _LONGEST + 4), np.roll(quiet, -_LONGEST - 4))
    peaks = np.flatnonzero(is_highest & (bins > _LEAST_PROMINENCE * beyond))
    # At the ends of the recording everything begins at once.
    ends = (
        -residual.first // size + _END,
        (block.start - block.before + len(block.samples) - residual.first) // size - _END,
    )
    peaks = peaks[(peaks >= max(own_first, ends[0], _REACH)) & (peaks < min(own_last, ends[1], len(bins) - _REACH))]
    around = np.lib.stride_tricks.sliding_window_view(bins, 2 * _REACH + 1)[peaks - _REACH]
    height = bins[peaks]
    before = _length(around[:, _REACH::-1], height)
    after = _length(around[:, _REACH:], height)
    column = np.arange(2 * _REACH + 1)
    in_burst = (column > _REACH - before[:, np.newaxis] - 1) & (column < _REACH + after[:, np.newaxis] + 1)
    rest = np.where(in_burst, np.float32(0), around)
    fellows = np.maximum(_fellow(rest[:, :_REACH]), _fellow(rest[:, _REACH + 1 :]))
    prominence = (height / np.maximum(fellows, _FAINTEST / 4)).astype(np.float32)
    chosen = (prominence >= _LEAST_PROMINENCE) & (before + after - 1 <= _LONGEST)
    peaks, before, after = peaks[chosen], before[chosen], after[chosen]
    exact = peaks * size + np.abs(residual.error.reshape(-1, size)[peaks]).argmax(axis=1)
    return Impulses(
        exact,
        (peaks - before + 1) * size,
        (peaks + after) * size,
        prominence[chosen],
        height[chosen] / residual.gain[np.minimum(exact // residual.segment, len(residual.gain) - 1)],
        *_levels(residual, exact, [round(s * block.rate) for s in (_LEVEL_SECONDS, _SURROUNDINGS_SECONDS)]),
    )


def _levels(residual: Residual, at: Integers, reaches: list[int]) -> list[Floats]:
    """Return the RMS levels of the wave around some places, within each reach."""
    sums = np.concatenate([[0.0], np.cumsum(np.square(residual.wave), dtype=np.float64)])
    levels = []
    for reach in reaches:
        first, last = np.maximum(0, at - reach), np.minimum(len(residual.wave), at + reach)
        levels.append(np.sqrt((sums[last] - sums[first]) / (last - first)).astype(np.float32))
    return levels


def _length(outward: Floats, height: Floats) -> Integers:
    """Return how many bins a burst goes on for, from its peak outward; a single quiet bin does not end it."""
    loud = outward > _BURST_SHARE * height[:, np.newaxis]
    loud[:, :-1] |= loud[:, 1:]
    return np.asarray(np.minimum(np.cumprod(loud, axis=1).sum(axis=1), outward.shape[1]), np.int64).clip(1)


def _fellow(bins: Floats) -> Floats:
    """Return the third highest bin of each row."""
    return np.partition(bins, -_FELLOW, axis=1)[:, -_FELLOW]
