"""The one pass over a recording that feeds every detector."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from umbrick.core.errors import CancelledError
from umbrick.core.sound.source import Source
from umbrick.core.survey.detector import Block

BLOCK_FRAMES = 2**18
MARGIN_FRAMES = 2**13
"""At rates up to 48 kHz; as much more at higher ones."""


def blocks(
    source: Source,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Iterator[Block]:
    """Yield a source's blocks in order, each read once for all who listen, with a margin on both sides.

    Raises
    ------
    FileError
        If the source fails.
    CancelledError
        If ``is_cancelled`` says so between two blocks.
    """
    margin = MARGIN_FRAMES * -(-source.rate // 48000)
    for start in range(0, source.frames, BLOCK_FRAMES):
        if is_cancelled():
            raise CancelledError
        stop = min(start + BLOCK_FRAMES, source.frames)
        before = min(start, margin)
        samples = source.read(start - before, min(stop + margin, source.frames))
        yield Block(start, stop, samples, before, source.rate)
        progress(stop / source.frames)
