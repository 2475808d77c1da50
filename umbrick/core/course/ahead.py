"""Reading a course from start to end: the next tiles are worked out on other cores while one is written."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from itertools import chain

import numpy as np
import numpy.typing as npt

from umbrick.core.course.laid import rendered_source
from umbrick.core.course.rendered import TILE
from umbrick.core.course.step import Spans
from umbrick.core.processors import processors
from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Samples, Source
from umbrick.core.timeline.version import Version

_TILES_AHEAD = 4


class _Ahead:
    """A version whose next tiles are asked for whenever some of it is read."""

    def __init__(self, version: Version, spans: Spans, pool: ThreadPoolExecutor) -> None:
        self._version, self._pool = version, pool
        self._left = (
            (at, min(at // TILE * TILE + TILE, stop))
            for start, stop in spans
            for at in chain((start,), range(start // TILE * TILE + TILE, stop, TILE))
        )
        self._next = next(self._left, None)
        self._waiting: deque[Future[Samples]] = deque()
        self.key, self.rate, self.channels, self.frames = version.key, version.rate, version.channels, version.frames

    @property
    def available(self) -> int:
        return self._version.available

    def read(self, start: int, stop: int) -> Samples:
        self._ask(stop)
        return self._version.read(start, stop)

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        self._ask(stop)
        return self._version.read_exact(start, stop)

    def _ask(self, stop: int) -> None:
        while self._next is not None and self._next[0] < stop + _TILES_AHEAD * TILE:
            self._waiting.append(self._pool.submit(self._version.read, *self._next))
            self._next = next(self._left, None)
        while self._waiting and self._waiting[0].done():
            self._waiting.popleft().result()


@contextmanager
def read_ahead(version: Version, spans: Spans | None = None) -> Iterator[Source]:
    """Give a version to be read from start to end, or all of some spans in order.

    One that no course is laid over is given as it is.
    """
    if rendered_source(version) is None:
        yield version
        return
    pool = ThreadPoolExecutor(processors(), thread_name_prefix="course")
    try:
        yield _Ahead(version, ((0, version.frames),) if spans is None else spans, pool)
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def highest_sample(
    version: Version,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> float:
    """Return the highest absolute sample of a version; CancelledError if ``is_cancelled`` says so."""
    highest = 0.0
    with read_ahead(version) as sound:
        for start, stop in blocks_of(((0, version.frames),), TILE, progress, is_cancelled):
            block = sound.read(start, stop)
            highest = max(highest, float(block.max()), -float(block.min()))
    return highest
