"""Regimens on the bench: drawn from what was done, kept on nine keys, and run on a recording."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from umbrick.core.errors import CancelledError, UmbrickError
from umbrick.core.paths import work_folder
from umbrick.core.regimen.making import regimen_of
from umbrick.core.regimen.regimen import Regimen
from umbrick.core.regimen.running import Ran, run_regimen
from umbrick.core.sound.whole_file import write_whole
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.units import format_count
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work

KEYS = range(1, 10)


class Regimens(Task):
    """Runs regimens on the recordings of the bench, one at a time."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._names: dict[int, str] = {}
        self._read: set[int] = set()

    def drawn(self) -> Regimen | None:
        """Return what was done to the current recording as a regimen; None if that cannot be, which is told."""
        work = self._bench.work
        if work is None:
            return None
        kinds = {finding.id: finding.kind for finding in work.found.findings}
        try:
            drawn = regimen_of(work.name, work.history.mends, work.history.course, kinds)
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
            return None
        if drawn.left_out:
            left = format_count(drawn.left_out, "thing")
            self._bench.said.emit(f"{left} done by hand at places of this recording have no part in a regimen.")
        return drawn.regimen

    def write(self, path: Path, regimen: Regimen) -> bool:
        """Write a regimen to a file; whether that could be done."""
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, (json.dumps(regimen.document(), indent=1) + "\n").encode(), overwrite=True)
        except (UmbrickError, OSError) as error:
            self._bench.failed.emit(str(error))
            return False
        return True

    def load(self, path: Path) -> Regimen | None:
        """Return the regimen in a file; None if it holds none, which is told."""
        try:
            return Regimen.load(path)
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
            return None

    # Nine on keys.

    def name_on(self, key: int) -> str:
        """Return what the regimen on a key is called, or nothing."""
        if key not in self._read:
            self._read.add(key)
            if _path_of(key).exists():
                try:
                    self._names[key] = Regimen.load(_path_of(key)).name
                except UmbrickError:
                    self._names[key] = "cannot be read"
        return self._names.get(key, "")

    def keep_on(self, key: int, regimen: Regimen) -> None:
        """Keep a regimen on a key, in place of what was there."""
        if self.write(_path_of(key), regimen):
            self._names[key] = regimen.name
            self._read.add(key)
            self._bench.said.emit(f"Ctrl+{key} runs “{regimen.name}” from now on.")
            self.changed.emit()

    def run_key(self, key: int) -> None:
        """Run the regimen on a key on the current recording."""
        if (regimen := self.load(_path_of(key))) is not None and self._bench.work is not None:
            self.run([self._bench.work], regimen)

    def reason_against(self) -> str:
        """Return why no regimen can be run now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        return work.held or ("A regimen is being run (Esc stops it)." if self.job else "")

    def run(self, works: Sequence[Work], regimen: Regimen, within: tuple[int, int] | None = None) -> None:
        """Run a regimen on recordings, one after another, or within a span of one; on each it is one step that one undo
        takes back."""
        if not works:
            return
        work, rest = works[0], works[1:]
        if work.held or work.history.course:
            why = work.held or f"{work.name} has a course already: take its steps off first."
            self._bench.failed.emit(why)
            return
        ground, survey = work.ground, work.survey
        lease = work.leases.take("A regimen is being run (Esc stops it); other edits wait.")

        def run(job: Job) -> Ran:
            known: Sequence[Finding]
            if survey is not None and work.history.is_in_place:
                wanted = survey.sifted(dict(regimen.sensitivity))
                known = [finding for finding in wanted if finding.id in work.table.rows]
                share = 0.0
            else:
                surveyor = Surveyor(ground.version, work.recording.format.bits, list(KINDS.values()))
                made = surveyor.run(lambda done: job.report(0.4 * done), job.is_cancelled)
                known, share = made.sifted(dict(regimen.sensitivity)), 0.4
            if job.is_cancelled():
                raise CancelledError
            ran = run_regimen(
                ground, regimen, known, lambda done: job.report(share + (1 - share) * done), job.is_cancelled, within
            )
            work.measure_peak(ran.mended.version)
            return ran

        def done(ran: Ran) -> None:
            lease.release()
            edit = ran.edit(regimen.name)
            if not edit.changes and not edit.marks:
                where = work.name if within is None else "what is selected"
                self._bench.said.emit(f"“{regimen.name}” found nothing to do in {where}.")
                self.run(rest, regimen)
                return

            def told(_: object) -> None:
                self._tell(work, regimen, ran)
                self.run(rest, regimen)

            self._bench.commit_behind(work, edit, ran.mended.version, told)

        job = self._run(f"running {regimen.name}", run, done, "Stopped; nothing was changed.")
        job.ended.connect(lease.release)

    def _tell(self, work: Work, regimen: Regimen, ran: Ran) -> None:
        left = f" {format_count(len(ran.doubtful), 'doubtful finding')} left for your ear." if ran.doubtful else ""
        why = f" {ran.declined[0]}" if ran.declined else ""
        mended, steps = format_count(len(ran.mended.mends), "place"), format_count(len(ran.course), "step")
        self._bench.said.emit(f"{work.name}: {mended} mended, {steps} laid.{left}{why} One undo takes it all back.")


def _path_of(key: int) -> Path:
    return work_folder() / "regimens" / f"{key}.json"
