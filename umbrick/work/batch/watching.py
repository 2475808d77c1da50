"""Waiting for new files in a folder, as a digitising station makes them: taken when they have stopped growing."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from umbrick.core.sound.sound_file import Stamp, stamp_of
from umbrick.work.batch.gathering import Item, gathered

LOOK_SECONDS = 2.0
_STILL_SECONDS = 3.0
"""For so long a file must not have grown."""


def arriving(
    given: Sequence[Path],
    out: Path,
    patterns: Sequence[str],
    is_stopped: Callable[[], bool],
    pause: Callable[[float], None] = time.sleep,
    now: Callable[[], float] = time.monotonic,
) -> Iterator[list[Item]]:
    """Yield files as they are complete, those that are there already first, until ``is_stopped`` says so."""
    seen: dict[Item, tuple[Stamp | None, float]] = {}
    taken: dict[Item, Stamp | None] = {}
    while not is_stopped():
        ready = []
        for item in gathered(given, out, patterns):
            stamp = stamp_of(item.source)
            if item not in seen or seen[item][0] != stamp:
                seen[item] = stamp, now()
            if stamp is None or not stamp.size or taken.get(item) == stamp:
                continue
            if now() - seen[item][1] >= _STILL_SECONDS or time.time() - stamp.modified_ns / 1e9 >= 2 * _STILL_SECONDS:
                taken[item] = stamp
                ready.append(item)
        if ready:
            yield ready
        pause(LOOK_SECONDS)
