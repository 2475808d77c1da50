"""Opening recordings: the file at once, its picture in the background."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from umbrick.core.paths import cache_folder
from umbrick.core.sound import pyramid as pyramids
from umbrick.core.sound.decoded_source import DecodedSource
from umbrick.core.sound.pyramid import Pyramid
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.units import format_clock
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.work import Work

SKETCH_COLUMNS = 1200


class Opening(QObject):
    """Opens files onto the bench."""

    opened = Signal(Path)
    progressed = Signal(float)
    """How far the picture of the current recording has come, from 0 to 1."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self._pictures: dict[int, Job] = {}

    def open(self, paths: list[Path], then: Callable[[], None] = lambda: None) -> None:
        """Open files one after another; ``then`` follows when all have opened or failed."""
        if not paths:
            then()
            return
        path, rest = paths[0], paths[1:]

        def go_on() -> None:
            self.open(rest, then)

        if work := self._bench.find_open(path):
            self._bench.show_work(work)
            go_on()
            return
        job = self._bench.jobs.start(f"opening {path.name}", lambda _: _load(path), self._opened)
        job.failed.connect(self._bench.failed)
        job.ended.connect(go_on)

    def close(self, work: Work) -> None:
        """Take a recording off the bench, stopping what is being made of it."""
        if job := self._pictures.get(id(work)):
            job.cancel()
        self._bench.remove(work)

    def _opened(self, loaded: tuple[Recording, Pyramid]) -> None:
        recording, pyramid = loaded
        work = Work(recording, pyramid)
        self._bench.add(work)
        self.opened.emit(recording.path)
        if recording.damage:
            self._bench.failed.emit(f"{recording.damage} The readable part is open.")
        if pyramid.is_complete:
            self._measure_peak(work)
            return

        def draw(job: Job) -> None:
            work.sketch = pyramids.sketch(recording.source, SKETCH_COLUMNS)
            job.came.emit(None)
            pyramids.build(pyramid, recording.source, job.report, job.is_cancelled)
            _save_picture(recording, pyramid)

        job = self._bench.jobs.start(
            f"drawing {recording.path.name}", draw, lambda _: self._drawn(work), lambda _: self._grew(work, 0.0)
        )
        self._pictures[id(work)] = job
        job.progressed.connect(lambda share: self._grew(work, share))
        job.failed.connect(self._bench.failed)
        job.ended.connect(lambda: self._pictures.pop(id(work), None))

    def _grew(self, work: Work, share: float) -> None:
        if work is self._bench.work:
            self._bench.version_changed.emit()
            self.progressed.emit(share)

    def _drawn(self, work: Work) -> None:
        self._grew(work, 1.0)
        self._measure_peak(work)
        if damage := work.recording.damage_found():
            self._bench.failed.emit(damage)
        else:
            length = format_clock(work.frames, work.rate, 1)
            self._bench.said.emit(f"{work.recording.path.name} is open, {length} long.")

    def _measure_peak(self, work: Work) -> None:
        version = work.version
        self._bench.jobs.start("measuring the peak", lambda _: work.measure_peak(version), self._peak_measured)

    def _peak_measured(self, _: Any) -> None:
        self._bench.version_changed.emit()


def _load(path: Path) -> tuple[Recording, Pyramid]:
    recording = open_recording(path.absolute(), cache_folder())
    source = recording.source
    saved = Pyramid.load(_picture_path(recording), source.frames, source.channels)
    return recording, saved or Pyramid(source.frames, source.channels)


def _picture_path(recording: Recording) -> Path:
    return cache_folder() / "pyramids" / f"{recording.source.key}.npy"


def _save_picture(recording: Recording, pyramid: Pyramid) -> None:
    source = recording.source
    is_whole = not (isinstance(source, DecodedSource) and source.missing_frames) and not recording.damage_found()
    if not is_whole:
        return
    try:
        pyramid.save(_picture_path(recording))
    except OSError:
        return  # a cache that cannot be kept is only made again next time
