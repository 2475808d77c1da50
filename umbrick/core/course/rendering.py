"""Working tiles out before they are asked for: what is about to be heard first, then what is seen, then the rest."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from umbrick.core.course import rendered as tiles
from umbrick.core.course.overview import Overview, extents_of
from umbrick.core.course.rendered import Rendered
from umbrick.core.errors import CancelledError, UmbrickError
from umbrick.core.fault_log import note_fault
from umbrick.core.sound.pyramid import Extent

_AHEAD_TILES = 3
"""What is kept ready before the playhead."""

_EXTENTS_HELD = 1 << 15
_TELL_SECONDS = 0.08
_REST_SECONDS = 0.02


@dataclass(frozen=True)
class _Wanted:
    rendered: Rendered
    window: tuple[int, int]
    playhead: int | None


class Rendering:
    """A thread that renders the source which is shown and heard; another one that is asked for comes at once.

    Parameters
    ----------
    on_grown : callable
        Told, from the thread and not too often, that more of it can be drawn.
    on_fault : callable
        Told in one sentence when it could not go on; it waits for what is asked for next then.
    """

    def __init__(
        self, on_grown: Callable[[], None] = lambda: None, on_fault: Callable[[str], None] = lambda _: None
    ) -> None:
        self._on_grown, self._on_fault = on_grown, on_fault
        self._wake = threading.Condition()
        self._wanted: _Wanted | None = None
        self._failed: Rendered | None = None
        self._closing = False
        self._extents: OrderedDict[str, Extent] = OrderedDict()
        self._told_at = 0.0
        self._thread: threading.Thread | None = None

    @property
    def is_idle(self) -> bool:
        """Whether nothing is left to be worked out."""
        wanted = self._wanted
        return wanted is None or self._failed is wanted.rendered or wanted.rendered.overview.is_complete

    def attend(self, rendered: Rendered | None, window: tuple[int, int], playhead: int | None = None) -> None:
        """Work this out from now on: from the playhead on first, then what is in the window, then what is nearest."""
        with self._wake:
            self._wanted = None if rendered is None else _Wanted(rendered, window, playhead)
            if self._thread is None and rendered is not None:
                self._thread = threading.Thread(target=self._run, name="rendering", daemon=True)
                self._thread.start()
            self._wake.notify()

    def close(self) -> None:
        """Stop the thread."""
        with self._wake:
            self._closing = True
            self._wake.notify()
        if self._thread:
            self._thread.join()

    def _run(self) -> None:
        while True:
            with self._wake:
                self._wake.wait_for(lambda: self._closing or not self.is_idle)
                if self._closing:
                    return
                wanted = self._wanted
            assert wanted is not None
            try:
                self._render_one(wanted)
            except CancelledError:
                self._failed = wanted.rendered  # its recording was closed
            except UmbrickError as error:
                self._failed = wanted.rendered
                self._on_fault(str(error))
            except Exception as error:
                self._failed = wanted.rendered
                note_fault(error)
                self._on_fault(f"The course could not be worked out: {error}.")

    def _render_one(self, wanted: _Wanted) -> None:
        overview = wanted.rendered.overview
        index, is_urgent = _most_wanted(overview, wanted)
        if wanted.playhead is not None and not is_urgent:
            time.sleep(_REST_SECONDS)  # what plays comes first, on however few cores
        first, last = index * tiles.TILE, min((index + 1) * tiles.TILE, wanted.rendered.frames)
        key = wanted.rendered.content_key(first, last)
        extent = self._extents.get(key)
        if extent is None:
            extent = self._extents[key] = extents_of(wanted.rendered.read(first, last))
            while len(self._extents) > _EXTENTS_HELD:
                self._extents.popitem(last=False)
        overview.fill(index, extent)
        now = time.monotonic()
        if overview.is_complete or now - self._told_at >= _TELL_SECONDS:
            self._told_at = now
            self._on_grown()


def _most_wanted(overview: Overview, wanted: _Wanted) -> tuple[int, bool]:
    """Return the tile that is to be worked out next, and whether it is about to be heard or is seen."""
    unknown = overview.unknown
    if wanted.playhead is not None:
        ahead = unknown - wanted.playhead // tiles.TILE
        soon = unknown[(ahead >= 0) & (ahead < _AHEAD_TILES)]
        if len(soon):
            return int(soon[0]), True
    first, last = wanted.window[0] // tiles.TILE, wanted.window[1] // tiles.TILE
    away = np.maximum(np.maximum(first - unknown, unknown - last), 0)
    nearest = int(np.argmin(away))
    return int(unknown[nearest]), not away[nearest]
