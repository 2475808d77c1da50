"""What the strips show besides the recording itself: which version, the playhead, and what is under the pointer."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from umbrick.core.course.laid import underneath
from umbrick.core.course.step import Course
from umbrick.core.timeline.positions import map_position, map_positions
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, format_db
from umbrick.playback.programme import Hearing
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.coursing import Coursing
from umbrick.ui.bench.listening import Listening
from umbrick.ui.bench.marking import Marking
from umbrick.ui.bench.mending import Mending
from umbrick.ui.bench.spectral_view import SpectralView
from umbrick.ui.bench.trying import Trying
from umbrick.ui.hand.selecting import Selecting
from umbrick.work.work import Work

LEVEL_STEP = 2.0**0.5
"""By which levels are magnified at a time: 3 dB."""

_MOST_MAGNIFIED = 4096.0
_LAG_MS = 150
_FITTING_SHARE = 0.92


@dataclass(frozen=True)
class Pointed:
    """A place under the pointer: ``value`` is the exact sample, ``peak`` the highest absolute one of a pixel."""

    frame: int
    channel: int
    value: float | None
    peak: float | None
    hz: float | None = None
    level_db: float | None = None
    """Over a spectrogram, the frequency there and the level drawn."""


class Viewing(QObject):
    """The strips' common view."""

    shown_changed = Signal()
    playhead_moved = Signal()
    pointed = Signal(object)
    fit_wanted = Signal()
    """The Passage is to be magnified so that its loudest sample in view just fits."""

    def __init__(
        self,
        bench: Bench,
        mending: Mending,
        trying: Trying,
        listening: Listening,
        marking: Marking,
        selecting: Selecting,
        coursing: Coursing,
    ) -> None:
        super().__init__(bench)
        self.bench = bench
        self.mending = mending
        self.trying = trying
        self.marking = marking
        self.selecting = selecting
        self.coursing = coursing
        self.listening = listening
        self.spectral = SpectralView(bench)
        self.playhead: int | None = None
        self.pointer: int | None = None
        """The frame under the pointer, while it is over a strip."""
        self.follows = True
        mending.offers_changed.connect(self.shown_changed)
        trying.changed.connect(self.shown_changed)
        selecting.changed.connect(self.shown_changed)
        self.spectral.changed.connect(self.shown_changed)
        coursing.changed.connect(self.shown_changed)
        coursing.trying.connect(self._lag)
        self._lagging: tuple[Work, Course] | None = None
        """While a setting is dragged and heard: the course that is drawn, until there is time to draw the new one."""
        self._catch_up = QTimer(self, singleShot=True, interval=_LAG_MS)
        self._catch_up.timeout.connect(self._end_lag)
        bench.edited.connect(self._end_lag)
        marking.changed.connect(self.shown_changed)
        listening.changed.connect(self._listening_changed)
        listening.ticked.connect(self._ticked)
        for signal in (bench.recording_changed, bench.edited, bench.view_changed, self.shown_changed):
            signal.connect(self._attend)

    def shown_version(self, work: Work) -> Version:
        """Return the version to be drawn: the one that is heard, with what is tried or the chosen candidate in it."""
        if self.listening.hearing is Hearing.BEFORE:
            return work.history.original
        if self._lagging is not None and self._lagging[0] is work:
            return work.through(self._beneath(work), self._lagging[1])
        return self.coursing.through(work, self._beneath(work))

    def _lag(self, course: Course) -> None:
        """What is heard comes first: pictures follow when a setting rests for a moment."""
        if self.listening.is_playing and self.bench.work is not None:
            self._lagging = self._lagging or (self.bench.work, course)
            self._catch_up.start()

    def _end_lag(self) -> None:
        if self._lagging is not None:
            self._lagging = None
            self._catch_up.stop()
            self.shown_changed.emit()

    def _beneath(self, work: Work) -> Version:
        """Return what the course is laid over in that."""
        trial = self.trying.trial_in(work)
        if trial is not None and trial.shows:
            return trial.version
        offer = self.mending.offer_in(work)
        return offer.mended.version if offer else work.version

    def shown_top(self, work: Work) -> float:
        """Return the amplitude at the strips' upper edge: full scale with a little room, more where peaks pass it."""
        offer, trial = self.mending.offer_in(work), self.trying.trial_in(work)
        tried = max(offer.mended.peak if offer else 0.0, trial.peak if trial and trial.shows else 0.0)
        return 1.08 * max(1.0, work.peak, tried)

    def passage_top(self, work: Work) -> float:
        """Return the amplitude at the upper edge of the Passage, whose levels can be magnified."""
        return self.shown_top(work) / work.magnified

    def _attend(self) -> None:
        """Have what is shown and heard of the course worked out ahead."""
        work = self.bench.work
        if work is None:
            self.coursing.rendering.attend(None, (0, 0))
            return
        window = int(work.passage.start), int(work.passage.stop)
        self.coursing.attend(self.coursing.through(work, self._beneath(work)), window, self.playhead)

    def magnify(self, factor: float) -> None:
        """Draw the Passage's levels so many times taller."""
        if work := self.bench.work:
            work.magnified = min(max(1.0, work.magnified * factor), _MOST_MAGNIFIED)
            if work.magnified < LEVEL_STEP**0.5:
                work.magnified = 1.0
            self.shown_changed.emit()
            top_db = format_db(amplitude_to_db(self.passage_top(work)))
            self.bench.said.emit(f"The Passage shows levels up to {top_db}.")

    def fit_levels(self, peak: float) -> None:
        """Magnify the Passage so that a peak just fits."""
        if (work := self.bench.work) and peak > 0:
            self.magnify(_FITTING_SHARE * self.passage_top(work) / peak)

    def shown_frames(self, work: Work, frames: Any) -> Any:
        """Return where frames of the version that is worked on are in the one that is shown."""
        shown = underneath(self.shown_version(work))
        if shown is work.version or work.history.is_in_place:
            return frames
        whole = np.clip(np.floor(frames), 0, work.frames).astype(np.int64)
        mapped = map_positions(work.version, shown, np.atleast_1d(whole)) + np.atleast_1d(frames - whole)
        return mapped if np.ndim(frames) else float(mapped[0])

    def worked_frame(self, work: Work, frame: float) -> float:
        """Return where a frame of the shown version is in the one that is worked on."""
        shown = underneath(self.shown_version(work))
        if shown is work.version or work.history.is_in_place:
            return frame
        whole = int(min(max(0, frame), shown.frames))
        return map_position(shown, work.version, whole) + frame - whole

    def point(self, place: Pointed | None) -> None:
        """Tell what is under the pointer."""
        self.pointer = place.frame if place else None
        self.pointed.emit(place)

    def _listening_changed(self) -> None:
        if not self.listening.is_sounding:
            self.playhead = None
            self.playhead_moved.emit()
        self.shown_changed.emit()

    def _ticked(self, position: int, _: object) -> None:
        work = self.bench.work
        if work is None or not self.listening.is_sounding:
            return
        self.playhead = position
        self._attend()
        if self.listening.is_scrubbing:
            self.playhead_moved.emit()
            return
        passage = work.passage
        if self.follows and not passage.start <= position < passage.stop:
            self.bench.set_passage(passage.scrolled(position - passage.start - 0.05 * passage.length, work.frames))
        self.playhead_moved.emit()
