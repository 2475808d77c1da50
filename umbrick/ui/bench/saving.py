"""Saving a copy, or putting the mended sound in place of its source."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from umbrick.casebook.locating import stat_of
from umbrick.core.errors import UmbrickError
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.saving import Saved, name_for_kept, over_message, save
from umbrick.core.units import format_lowering
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.work import Work


@dataclass(frozen=True)
class Order:
    """What is to be saved: where, how, with which level change; ``overwrite`` if the person agreed to replace."""

    path: Path
    form: FileFormat
    gain_db: float = 0.0
    overwrite: bool = False


class Saving(QObject):
    """Writes files in the background; the bench goes on meanwhile."""

    changed = Signal()
    progressed = Signal(float)
    saved = Signal(object)

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.job: Job | None = None

    def save(self, order: Order) -> None:
        """Save the current version."""
        work = self._bench.work
        if work is None or self.job is not None:
            return
        version = work.version
        source = work.recording.path
        keep_as = name_for_kept(work.home) if replaces_source(work, order.path) else None

        def write(job: Job) -> Saved:
            work.recording.check_unchanged()
            return save(
                version,
                order.path,
                order.form,
                origin=source,
                origin_format=work.recording.format,
                gain_db=order.gain_db,
                overwrite=order.overwrite,
                keep_as=keep_as,
                progress=job.report,
                is_cancelled=job.is_cancelled,
            )

        def done(saved: Saved) -> None:
            try:
                work.saved = version.key
                work.shelf.write_saved(version.key)
                if keep_as:
                    work.recording.moved_to(keep_as)
                    work.home_stamp = stat_of(work.home)
                    work.shelf.write_place(keep_as, work.home, work.is_own)
            except UmbrickError as error:
                self._bench.failed.emit(str(error))
            self._bench.said.emit(_told(saved, order))
            self.saved.emit(saved)

        self.job = self._bench.jobs.start(f"saving {order.path.name}", write, done)
        self.job.progressed.connect(self.progressed)
        self.job.failed.connect(self._bench.failed)
        self.job.cancelled.connect(lambda: self._bench.said.emit("Saving stopped; nothing was changed."))
        self.job.ended.connect(self._ended)
        self.changed.emit()

    def stop(self) -> None:
        """Stop writing; the target stays as it was."""
        if self.job:
            self.job.cancel()

    def _ended(self) -> None:
        self.job = None
        self.changed.emit()


def replaces_source(work: Work, path: Path) -> bool:
    """Return whether a path is the recording's own file."""
    return path.exists() and path.samefile(work.home)


def _told(saved: Saved, order: Order) -> str:
    parts = [f"Saved {saved.path.name} ({saved.format.name})"]
    if order.gain_db:
        parts.append(f", lowered by {format_lowering(order.gain_db)}")
    text = "".join(parts) + "."
    if saved.kept:
        text += f" The old file is kept as {saved.kept.name}."
    if saved.over:
        text += f" {over_message(saved.over)}"
    return f"{text} {saved.note}".strip()
