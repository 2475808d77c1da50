"""Writing files: a copy of the recording or of the selection, in any form that is asked for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import Signal

from umbrick.core.course.acting import makes_all_anew
from umbrick.core.course.ahead import read_ahead
from umbrick.core.errors import UmbrickError
from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.report.facts import done_in_words
from umbrick.core.sound.conversion import ChannelChoice
from umbrick.core.sound.cues import Cue, read_cues
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.saving import Papers, Saved, over_message, save
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_lowering
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.marking import cues_in
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work


@dataclass(frozen=True)
class Order:
    """What is to be saved: where, how, with which level change; ``overwrite`` if the person agreed to replace.

    ``span`` is the part to be saved, None for all; ``rate`` and ``layout`` None leave rate and channels as they are.
    """

    path: Path
    form: FileFormat
    gain_db: float = 0.0
    overwrite: bool = False
    rate: int | None = None
    layout: ChannelChoice | None = None
    span: tuple[int, int] | None = None
    fits: bool = False
    """Whether the level is lowered, on the way, by as much as the highest sample asks for."""


class Saving(Task):
    """Writes files in the background, one at a time; the bench goes on meanwhile."""

    saved = Signal(object)

    def save(self, order: Order) -> None:
        """Save the current version, or a part of it, as a file that is not the recording's own."""
        work = self._bench.work
        if work is None:
            return
        version = work.outcome

        def done(saved: Saved) -> None:
            if order.span is None:
                note_saved(work, version, self._bench)
            self._bench.said.emit(told(saved))
            self.saved.emit(saved)

        self.run(work, order, done)

    def run(
        self,
        work: Work,
        order: Order,
        done: Callable[[Saved], None],
        keep_as: Path | None = None,
        on_kept: Callable[[], None] = lambda: None,
    ) -> None:
        """Write a file; ``done`` follows when it is in its place."""
        if self.job is not None:
            self._bench.said.emit("A file is being written; one at a time.")
            return
        version, source = work.outcome, work.recording.path
        course = work.history.course
        done_words = done_in_words(work.history.mends, course)
        markers = cues_in(work)

        def write(job: Job) -> Saved:
            work.recording.check_unchanged()
            start, stop = order.span or (0, version.frames)
            part = version
            if order.span:
                part = Version.from_run(version.rate, version.channels, version.cut([start], [stop]))
            # Just a part of it has no place beside the whole picture.
            track = work.recording.track if order.form.has_tracks and not order.span else None
            moved_by = version.frames - work.history.original.frames
            papers = Papers(source, _cues_for(work, version, markers, start, stop), done_words, start, track, moved_by)
            gain_db = order.gain_db
            if order.fits:
                gain_db = fitting_gain_db(
                    work.measure_outcome(version, lambda share: job.report(share / 2), job.is_cancelled)
                )
            with read_ahead(part) as sound:
                return save(
                    sound,
                    order.path,
                    order.form,
                    rate=order.rate,
                    layout=order.layout,
                    papers=papers,
                    origin_format=work.recording.format,
                    gain_db=gain_db,
                    made_anew=makes_all_anew(course),
                    overwrite=order.overwrite,
                    keep_as=keep_as,
                    on_kept=on_kept,
                    progress=job.report,
                    is_cancelled=job.is_cancelled,
                )

        self._run(f"saving {order.path.name}", write, done, "Saving stopped; nothing was changed.")


def note_saved(work: Work, version: Version, bench: Bench) -> None:
    """Remember that a file holds a version now."""
    work.saved = version.key
    try:
        work.shelf.write_saved(version.key)
    except UmbrickError as error:
        bench.failed.emit(str(error))
    bench.learned.emit()


def told(saved: Saved) -> str:
    """Return in words what was saved."""
    text = f"Saved {saved.path.name} ({saved.format.name})"
    if saved.gain_db:
        text += f", lowered by {format_lowering(saved.gain_db)}"
    text += "."
    if saved.kept:
        text += f" The old file is kept as {saved.kept.name}."
    if saved.over:
        text += f" {over_message(saved.over)}"
    return f"{text} {saved.note}".strip()


def _cues_for(work: Work, version: Version, markers: list[Cue], start: int, stop: int) -> list[Cue] | None:
    """Return the cue points of a file of a span of a version: the recording's own, where they are now, and the markers.

    None if the recording's own can stay just as they are.
    """
    own = read_cues(work.recording.path)
    if not markers and (version is work.history.original or not own) and (start, stop) == (0, version.frames):
        return None
    inside = [cue for cue in own if cue.start + cue.length <= work.history.original.frames]
    spans = [(cue.start, cue.start + cue.length) for cue in inside]
    moved = [
        Cue(first, last - first, cue.name, cue.note)
        for cue, (first, last) in zip(inside, map_spans(work.history.original, version, spans), strict=True)
    ]
    every = sorted({*moved, *markers})
    return [
        Cue(cue.start - start, min(cue.length, stop - cue.start), cue.name, cue.note)
        for cue in every
        if start <= cue.start <= stop
    ]
