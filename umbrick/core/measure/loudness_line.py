"""How loud a recording is from moment to moment: enough to find its quietest, usual and loudest stretches."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source
from umbrick.core.units import SILENCE_DBFS

Levels = npt.NDArray[np.float32]

FRAME_SECONDS = 0.05
_FRAMES_AT_ONCE = 2000


def loudness_line(
    sound: Source,
    start: int,
    stop: int,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Levels:
    """Return the level of every 50 ms of a span in dBFS, all channels together; digital silence is −200."""
    frame = frame_length(sound.rate)
    stop = start + (stop - start) // frame * frame
    parts = [np.zeros(0, np.float32)]
    for begin, end in blocks_of([(start, stop)], frame * _FRAMES_AT_ONCE, progress, is_cancelled):
        block = sound.read(begin, end).reshape(-1, frame * sound.channels)
        power = np.einsum("fk,fk->f", block, block) / np.float32(block.shape[1])
        parts.append(10 * np.log10(np.maximum(power, np.float32(10 ** (SILENCE_DBFS / 10)))))
    return np.concatenate(parts)


def frame_length(rate: int) -> int:
    """Return how many frames each level is of."""
    return max(1, round(FRAME_SECONDS * rate))


def quietest_stretch(levels: Levels, seconds: float, frames: int, rate: int) -> tuple[int, int]:
    """Return the stretch of so many seconds, or all there is, that is quietest without being silent."""
    return _stretch(-np.where(levels <= SILENCE_DBFS, 0.0, levels), seconds, frames, rate)


def loudest_stretch(levels: Levels, seconds: float, frames: int, rate: int) -> tuple[int, int]:
    """Return the stretch of so many seconds, or all there is, that is loudest."""
    return _stretch(levels, seconds, frames, rate)


def _stretch(weights: npt.NDArray[np.floating], seconds: float, frames: int, rate: int) -> tuple[int, int]:
    width, frame = min(len(weights), round(seconds / FRAME_SECONDS)), frame_length(rate)
    if width == len(weights):
        return 0, frames
    total = np.concatenate([[0.0], np.cumsum(weights, dtype=np.float64)])
    start = int(np.argmax(total[width:] - total[:-width]))
    return start * frame, (start + width) * frame
