"""Going through spans block by block, telling how far, until it is stopped."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from umbrick.core.errors import CancelledError


def blocks_of(
    spans: Sequence[tuple[int, int]],
    frames: int,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Iterator[tuple[int, int]]:
    """Yield spans in order, each in blocks of at most so many frames.

    ``progress`` is told the share done after each block. CancelledError comes before the next one if ``is_cancelled``
    says so.
    """
    whole, done = sum(stop - start for start, stop in spans), 0
    for start, stop in spans:
        for at in range(start, stop, frames):
            if is_cancelled():
                raise CancelledError
            end = min(at + frames, stop)
            yield at, end
            done += end - at
            progress(done / whole)
