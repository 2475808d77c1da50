"""Work of which one piece at a time runs in the background, with progress, and can be stopped."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job, Run


class Task(QObject):
    """What the bench's background workers share; ``job`` is what runs now, or None."""

    changed = Signal()
    """Work has begun or ended."""
    progressed = Signal(float)

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.job: Job | None = None

    def stop(self) -> None:
        """Stop what runs."""
        if self.job:
            self.job.cancel()

    def _run(
        self,
        title: str,
        run: Run,
        done: Callable[[Any], None],
        stopped: str,
        came: Callable[[Any], None] = lambda _: None,
    ) -> Job:
        """Run something; ``stopped`` is said if it was stopped."""
        job = self._bench.jobs.start(title, run, done, came)
        self.job = job
        job.progressed.connect(self.progressed)
        if stopped:
            job.cancelled.connect(lambda: self._bench.said.emit(stopped))
        job.ended.connect(self._ended)
        self.changed.emit()
        return job

    def _ended(self) -> None:
        self.job = None
        self.changed.emit()
