"""What the strips show besides the recording itself: which version, the playhead, and what is under the pointer."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from umbrick.core.timeline.version import Version
from umbrick.playback.engine import Hearing
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.listening import Listening
from umbrick.ui.bench.marking import Marking
from umbrick.ui.bench.mending import Mending
from umbrick.ui.bench.work import Work


@dataclass(frozen=True)
class Pointed:
    """A place under the pointer: ``value`` is the exact sample, ``peak`` the highest absolute one of a pixel."""

    frame: int
    channel: int
    value: float | None
    peak: float | None


class Viewing(QObject):
    """The strips' common view."""

    shown_changed = Signal()
    playhead_moved = Signal()
    pointed = Signal(object)

    def __init__(self, bench: Bench, mending: Mending, listening: Listening, marking: Marking) -> None:
        super().__init__(bench)
        self.bench = bench
        self.mending = mending
        self.marking = marking
        self._listening = listening
        self.playhead: int | None = None
        self.follows = True
        mending.offers_changed.connect(self.shown_changed)
        marking.changed.connect(self.shown_changed)
        listening.changed.connect(self._listening_changed)
        listening.ticked.connect(self._ticked)

    def shown_version(self, work: Work) -> Version:
        """Return the version to be drawn: the one that is heard, with the chosen candidate in it."""
        if self._listening.hearing is Hearing.BEFORE:
            return work.history.original
        offer = self.mending.offer_in(work)
        return offer.mended.version if offer else work.version

    def shown_top(self, work: Work) -> float:
        """Return the amplitude at the strips' upper edge: full scale with a little room, more where peaks pass it."""
        offer = self.mending.offer_in(work)
        return 1.08 * max(1.0, work.peak, offer.mended.peak if offer else 0.0)

    def point(self, place: Pointed | None) -> None:
        """Tell what is under the pointer."""
        self.pointed.emit(place)

    def _listening_changed(self) -> None:
        if not self._listening.is_playing:
            self.playhead = None
            self.playhead_moved.emit()
        self.shown_changed.emit()

    def _ticked(self, position: int, _: object) -> None:
        work = self.bench.work
        if work is None or not self._listening.is_playing:
            return
        self.playhead = position
        passage = work.passage
        if self.follows and not passage.start <= position < passage.stop:
            self.bench.set_passage(passage.scrolled(position - passage.start - 0.05 * passage.length, work.frames))
        self.playhead_moved.emit()
