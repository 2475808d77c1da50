"""Rehearsing in the background how far a step had better lower noise."""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import QTimer, Signal

from umbrick.core.course.learning import sound_before
from umbrick.core.course.rehearsal import NoiseRehearsal, rehearse_noise
from umbrick.core.course.step import Step
from umbrick.core.measure.loudness_line import loudness_line
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.coursing import Coursing
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task

_LISTENED = 0.3
"""What share of the work it is to find where the sound is loud."""


class RehearsedNoise(NamedTuple):
    """What a rehearsal for a step showed; ``rate`` is the recording's."""

    step: Step
    rehearsal: NoiseRehearsal
    rate: int


class RehearsingNoise(Task):
    """Adds noise of the recording's own pauses where it is loud, and takes it out by several amounts."""

    rehearsed = Signal(object)

    def __init__(self, bench: Bench, coursing: Coursing) -> None:
        super().__init__(bench)
        self._coursing = coursing

    def reason_against(self) -> str:
        """Return why nothing can be rehearsed now, or nothing."""
        step = self._coursing.step
        if step is None or step.method != "denoise":
            return self._coursing.reason_against_step() or "This is for a step that lowers noise."
        return "A rehearsal is under way (Esc stops it)." if self.job else ""

    def start(self) -> None:
        """Rehearse the chosen step."""
        work, step = self._bench.work, self._coursing.step
        if work is None or step is None or self.reason_against():
            return
        ground, course, rate = work.ground, work.history.course, work.rate

        def run(job: Job) -> RehearsedNoise:
            sound = sound_before(ground, course, step)
            levels = loudness_line(
                sound, 0, sound.frames, lambda share: job.report(_LISTENED * share), job.is_cancelled
            )
            rest = 1 - _LISTENED
            rehearsal = rehearse_noise(
                sound, step, levels, lambda share: job.report(_LISTENED + rest * share), job.is_cancelled
            )
            return RehearsedNoise(step, rehearsal, rate)

        def show(rehearsed: RehearsedNoise) -> None:
            # Once the work has ended: whoever shows it may wait for the person.
            QTimer.singleShot(0, lambda: self.rehearsed.emit(rehearsed))

        self._run("rehearsing", run, show, "The rehearsal was stopped.")

    def take(self, rehearsed: RehearsedNoise, reduction_db: float) -> None:
        """Have the step lower noise by an amount."""
        self._coursing.set_settings(rehearsed.step.id, {"reduction_db": reduction_db})
