"""The picture that belongs to the sound: which one is shown, and how far the sound is from it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from umbrick.core.errors import FileError
from umbrick.core.sound.containers.pictures import Pictures, Shown
from umbrick.core.timecode import format_timecode, parse_timecode
from umbrick.core.timeline.positions import origin_of_place
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.viewing import Viewing
from umbrick.ui.strips.renderer import Renderer
from umbrick.work.work import Work


class _Reader:
    """A video that is opened, read and closed by the renderer's thread alone."""

    def __init__(self, work: Work) -> None:
        track = work.recording.track
        assert track is not None
        self._path, self._container = work.recording.path, track.format.container
        self._pictures: Pictures | None = None
        self.rate: Fraction | None = None
        self.why = ""

    def at(self, seconds: float) -> Shown | None:
        if self._pictures is None and not self.why:
            try:
                self._pictures = Pictures(self._path, self._container)
                self.rate = self._pictures.rate
            except FileError as error:
                self.why = str(error)
        return self._pictures.at(seconds) if self._pictures is not None else None

    def close(self) -> None:
        if self._pictures is not None:
            self._pictures.close()
            self._pictures = None


@dataclass(frozen=True)
class _PictureRequest:
    """Which picture of which reader; readers of before are closed on the way."""

    reader: _Reader
    seconds: float
    left: tuple[_Reader, ...] = field(compare=False)

    def make(self, is_overtaken: Callable[[], bool]) -> tuple[QImage, float, float] | None:
        """Return the picture and when it comes and goes; None where there is none."""
        for one in self.left:
            one.close()
        shown = self.reader.at(self.seconds)
        if shown is None:
            return None
        height, width = shown.pixels.shape[:2]
        image = QImage(np.ascontiguousarray(shown.pixels).data, width, height, 3 * width, QImage.Format.Format_RGB888)
        return image.copy(), shown.begins, shown.ends


class Picturing(QObject):
    """Follows cursor and playhead with the picture; of pictures that come too fast, those in between are left out."""

    changed = Signal()
    """Another picture is shown, or none, or it has come to be known whether there is one."""

    def __init__(self, bench: Bench, viewing: Viewing) -> None:
        super().__init__(bench)
        self._bench = bench
        self._viewing = viewing
        self.image: QImage | None = None
        self._span: tuple[float, float] | None = None
        self._reader: _Reader | None = None
        self._of: Work | None = None
        self._left: list[_Reader] = []
        self._asked: _PictureRequest | None = None
        self._renderer = Renderer(self)
        self._renderer.ready.connect(self._take)
        self._renderer.failed.connect(bench.failed)
        self._renderer.fault.connect(bench.jobs.fault)
        for signal in (bench.recording_changed, bench.place_changed, bench.edited, viewing.playhead_moved):
            signal.connect(self._follow)

    @property
    def is_idle(self) -> bool:
        """Whether the picture that is shown is the one that belongs there."""
        return self._renderer.is_idle

    @property
    def has_picture(self) -> bool:
        """Whether the current recording is the sound of a video with a picture, as far as is known."""
        return self._reader is not None and not self._reader.why

    @property
    def rate(self) -> Fraction | None:
        """Pictures a second of the current recording's video, once it is known."""
        return self._reader.rate if self._reader is not None else None

    @property
    def frame(self) -> int:
        """The frame of the version whose picture is shown: that which is heard, or at the cursor."""
        work = self._bench.work
        if work is None:
            return 0
        return self._viewing.playhead if self._viewing.playhead is not None else work.cursor

    def timecode(self) -> str:
        """Return where that is, in hours, minutes, seconds and pictures."""
        work, rate = self._bench.work, self.rate
        return format_timecode(self._seconds(work, self.frame), rate) if work is not None and rate is not None else ""

    def sync(self) -> tuple[float, float]:
        """Return by how much the sound here comes later than it did, in ms and in pictures."""
        work, rate = self._bench.work, self.rate
        if work is None or work.history.is_in_place:
            return 0.0, 0.0
        frame = min(self.frame, work.frames)
        seconds = (frame - origin_of_place(work.version, frame)) / work.rate
        return 1000 * seconds, seconds * float(rate or 0)

    def go_to(self, text: str) -> None:
        """Put the cursor on the beginning of the picture of a typed timecode; ParameterError if it is none."""
        work, rate = self._bench.work, self.rate
        if work is not None and rate is not None:
            self._put_cursor(work, parse_timecode(text, rate))

    def step(self, pictures: int) -> None:
        """Put the cursor on the next (1) or previous (−1) picture."""
        work, rate, span = self._bench.work, self.rate, self._span
        if work is None or rate is None:
            return
        half = 0.5 / float(rate)
        here = self._seconds(work, work.cursor)
        if span is None or not span[0] - 1e-6 <= here < span[1] + 1e-6:
            span = here, here + 2 * half
        self._put_cursor(work, span[1] if pictures > 0 else max(0.0, span[0] - half), snap_back=pictures < 0)

    def close(self) -> None:
        """Stop for good."""
        self._renderer.close()
        for reader in (*self._left, *([self._reader] if self._reader else [])):
            reader.close()

    def _seconds(self, work: Work, frame: int) -> float:
        """Return the container's time at which a frame of the mended sound is heard."""
        track = work.recording.track
        return float(track.starts_at if track else 0) + frame / work.rate

    def _put_cursor(self, work: Work, seconds: float, snap_back: bool = False) -> None:
        rate, track = self.rate, work.recording.track
        if snap_back and rate is not None:
            seconds = int(seconds * float(rate) + 1e-6) / float(rate)
        frame = -(-round(1e6 * (seconds - float(track.starts_at if track else 0)) * work.rate) // 1_000_000)
        self._bench.set_cursor(frame)
        self._bench.set_passage(work.passage.showing(work.cursor, work.cursor + 1, work.frames, margin=0.02))

    def _follow(self) -> None:
        work = self._bench.work
        if work is not self._of:
            if self._reader is not None:
                self._left.append(self._reader)
            self._of, self.image, self._span = work, None, None
            self._reader = _Reader(work) if work is not None and work.recording.track is not None else None
            self.changed.emit()
        if work is None or self._reader is None or self._reader.why:
            return
        seconds = self._seconds(work, self.frame)
        if self._span is not None and self._span[0] <= seconds < self._span[1]:
            self.changed.emit()  # the same picture, at another moment of it
            return
        self._asked = _PictureRequest(self._reader, seconds, tuple(self._left))
        self._renderer.request(self._asked)

    def _take(self, request: _PictureRequest, made: tuple[QImage, float, float] | None) -> None:
        self._left = [one for one in self._left if one not in request.left]
        if request.reader is not self._reader:
            return
        if made is not None:
            self.image, begins, ends = made
            self._span = begins, ends
        self.changed.emit()
