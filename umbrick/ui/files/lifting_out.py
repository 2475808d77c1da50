"""Lifting an area out: into a file of its own, so that it and what is left add up to what there was."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import soundfile
from PySide6.QtWidgets import QFileDialog, QWidget

from umbrick.core.areas.treating import SILENCED_DB
from umbrick.core.mend.applying import Mended, apply_method
from umbrick.core.mend.areas.area import settings_of
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.whole_file import write_whole
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.work.selection import SelectedArea
from umbrick.work.work import Work


class LiftingOut(Task):
    """Writes what is in the selected area to a file, and takes it out of the recording, as one step of its history."""

    def __init__(self, bench: Bench, parent: QWidget) -> None:
        super().__init__(bench)
        self._parent = parent

    def ask(self) -> None:
        """Ask for the file, and lift the area out."""
        work = self._bench.work
        if work is None or work.area is None:
            return
        proposed = str(work.home.with_name(f"{work.name} lifted.wav"))
        path, _ = QFileDialog.getSaveFileName(
            self._parent, "Lift the area out", proposed, "WAV (*.wav)", options=QFileDialog.Option.DontConfirmOverwrite
        )
        if path:
            self.lift(work, work.area, Path(path))

    def lift(self, work: Work, selected: SelectedArea, path: Path) -> None:
        """Write what an area holds to a new file as 64-bit float, and take it out of the recording."""
        if work.held or self.job is not None:
            self._bench.failed.emit(work.held or "Something is being lifted out already.")
            return
        base = work.version

        def run(_: Job) -> Mended:
            mended = _without(base, selected)
            mend = mended.mends[0]
            lifted = base.read_exact(mend.start, mend.stop) - mended.version.read_exact(mend.start, mend.stop)
            write_whole(path, _as_wav(lifted, base.rate))
            work.measure_peak(mended.version)
            return mended

        def done(mended: Mended) -> None:
            where = format_clock(mended.mends[0].start, work.rate)
            told = f"Lifted out to {path.name}, which begins at {where}. Undo puts it back here."
            edit = mended.edit("lift an area out")
            self._bench.commit_behind(work, edit, mended.version, lambda _: self._bench.said.emit(told))

        lease = work.leases.take("An area is being lifted out; other edits wait.")
        self._run("Lifting out", run, done, "Nothing was lifted out.").ended.connect(lease.release)


def _without(version: Version, selected: SelectedArea) -> Mended:
    placed = selected.placed(version.frames, version.rate)
    settings = {**settings_of(placed.area), "action": "level", "gain_db": SILENCED_DB}
    place = Place(placed.start, placed.stop, selected.channels)
    return apply_method(version, method_named("area"), settings, [place])


def _as_wav(sound: np.ndarray, rate: int) -> bytes:
    file = io.BytesIO()
    soundfile.write(file, sound, rate, format="WAV", subtype="DOUBLE")
    return file.getvalue()
