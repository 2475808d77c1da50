"""How noise-like a sound is: noise is as dense everywhere, tones are lines with nothing between them."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block
from umbrick.core.survey.impulses.residual import MARGIN_SEGMENTS, residuals, segment_frames

Floats = npt.NDArray[np.float32]

_LOWEST_HZ, _HIGHEST_HZ, _LOWEST_SHARE, _HIGHEST_SHARE = 2000.0, 14_000.0, 0.2, 0.46
"""Where hiss is heard, and in recordings of a low rate which share of it."""

_BINS = 24
_FAINTEST = 1e-14


def grain(block: Block) -> Floats:
    """Return for each segment of about 20 ms, a row each, the power of its highs and how noise-like these are, 0 to 1.

    Noise reaches 0.56 by itself: the flatness of its spectrum (geometric over arithmetic mean), the middle one of
    those of narrow bands, so that no slope matters.

    References
    ----------
    J. D. Johnston, 1988 (the spectral flatness as a measure of tonality).
    """
    found = block.shared(residuals)
    hz = block.rate / (2 * segment_frames(block.rate))
    first = int(min(_LOWEST_HZ, _LOWEST_SHARE * block.rate) / hz)
    bands = int((min(_HIGHEST_HZ, _HIGHEST_SHARE * block.rate) / hz - first) / _BINS)
    count = -(-(block.stop - block.start) // found[0].segment)
    if bands < 1:
        return np.ones((count, 2), np.float32)
    own = slice(MARGIN_SEGMENTS, MARGIN_SEGMENTS + count), slice(first, first + bands * _BINS)
    power = np.asarray(sum(one.power[own] for one in found), np.float32) + np.float32(_FAINTEST)
    narrow = power.reshape(count, bands, _BINS)
    flatness = np.exp(np.log(narrow).mean(axis=2)) / narrow.mean(axis=2)
    return np.stack([power.mean(axis=1), np.median(flatness, axis=1)], axis=1)
