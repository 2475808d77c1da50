"""Digital silence: where a recording holds nothing at all, as a gate or a coder leaves it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt

from umbrick.core.model.bounds import spans_in
from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source

_SILENT = 2.0**-22
"""What is no louder is nothing: two steps of 24 bits."""

_LEAST_SECONDS = 0.01
_BLOCK_FRAMES = 1 << 18


def shortest_silence(rate: int) -> int:
    """Return how many frames without sound are digital silence at the least, and no crossing of zero."""
    return max(8, round(_LEAST_SECONDS * rate))


def silent(samples: npt.NDArray[np.floating], rate: int) -> npt.NDArray[np.bool_]:
    """Return which frames of ``(frames, channels)`` lie in digital silence of all channels."""
    mask = _is_still(samples)
    for start, stop in zip(*spans_in(mask), strict=True):
        if stop - start < shortest_silence(rate):
            mask[start:stop] = False
    return mask


def silences(
    source: Source, spans: Sequence[tuple[int, int]], is_cancelled: Callable[[], bool] = lambda: False
) -> list[tuple[int, int]]:
    """Return every stretch of digital silence in some spans, of ten milliseconds or more; CancelledError if it is to
    stop. The spans are in order and apart."""
    found: list[tuple[int, int]] = []
    for start, stop in blocks_of(spans, _BLOCK_FRAMES, lambda _: None, is_cancelled):
        still = spans_in(_is_still(source.read(start, stop)))
        for begin, end in zip(*(edges.tolist() for edges in still), strict=True):
            if found and found[-1][1] == start + begin:
                found[-1] = found[-1][0], start + end
            elif end - begin > 1:
                found.append((start + begin, start + end))
    return [(start, stop) for start, stop in found if stop - start >= shortest_silence(source.rate)]


def _is_still(samples: npt.NDArray[np.floating]) -> npt.NDArray[np.bool_]:
    return np.asarray((np.abs(samples) <= _SILENT).all(axis=1))
