"""Work in the background: runs a function in a thread and tells the interface how it ended."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal

from umbrick.core.errors import CancelledError, UmbrickError
from umbrick.core.fault_log import fault_named, note_fault

Run = Callable[["Job"], Any]


class Job(QObject):
    """One running piece of work. It ends once: done, failed or cancelled.

    The worker reads :meth:`is_cancelled` and calls :meth:`report`; the rest belongs to the interface's thread.
    """

    progressed = Signal(float)
    came = Signal(object)
    """Something the work found on the way."""
    done = Signal(object)
    failed = Signal(str)
    cancelled = Signal()
    ended = Signal()

    def __init__(self, title: str) -> None:
        super().__init__()
        self.title = title
        self._cancel = threading.Event()
        self._last_share = -1.0

    def cancel(self) -> None:
        """Ask the work to stop; nothing it still finds is delivered."""
        self._cancel.set()

    def is_cancelled(self) -> bool:
        """Whether it was asked to stop."""
        return self._cancel.is_set()

    def report(self, share: float) -> None:
        """Tell the share done, from 0 to 1; called by the worker as often as it likes."""
        if share >= 1 or share - self._last_share >= 0.005:
            self._last_share = share
            self.progressed.emit(share)


class Jobs(QObject):
    """Starts jobs, each in a thread of its own, and can wait for all of them."""

    failed = Signal(str)
    """Some work could not be done, and nobody else is told; the sentence says why."""
    fault = Signal(str, str)
    """Some work met a fault in Umbrick itself: the sentence, and all details; failing is told as well."""
    _settled = Signal(object, str, object)

    def __init__(self) -> None:
        super().__init__()
        self._running: dict[Job, threading.Thread] = {}
        self._settled.connect(self._settle, Qt.ConnectionType.QueuedConnection)

    @property
    def is_idle(self) -> bool:
        """Whether nothing is running or waiting to be delivered."""
        return not self._running

    def start(
        self,
        title: str,
        work: Run,
        done: Callable[[Any], None],
        came: Callable[[Any], None] = lambda _: None,
        *,
        failed: Callable[[str], None] | None = None,
        ended: Callable[[], None] = lambda: None,
    ) -> Job:
        """Run ``work(job)`` in the background; ``done(result)`` follows in the interface's thread.

        ``came`` is told what the work emits on the way. It is connected before the work begins: what comes at once
        would be lost otherwise. ``failed`` is told the sentence that says why it could not be done; if it is not
        given, :attr:`failed` of all jobs is: nothing fails without a word. ``ended`` follows in every case.
        """
        job = Job(title)
        job.done.connect(done)
        job.failed.connect(failed or self.failed)
        job.ended.connect(ended)
        job.came.connect(came, Qt.ConnectionType.QueuedConnection)
        thread = threading.Thread(target=self._run, args=(job, work), name=title, daemon=True)
        self._running[job] = thread
        thread.start()
        return job

    def cancel_all(self) -> None:
        """Ask all to stop, and wait until they have."""
        for job in list(self._running):
            job.cancel()
        for thread in list(self._running.values()):
            thread.join()

    def _run(self, job: Job, work: Run) -> None:
        try:
            result = work(job)
            ending = ("cancelled", None) if job.is_cancelled() else ("done", result)
        except CancelledError:
            ending = ("cancelled", None)
        except UmbrickError as error:
            ending = ("failed", str(error))
        except Exception as error:
            details = note_fault(error)
            told = f"{job.title} met a {fault_named(error)}."
            self.fault.emit(told, details)
            ending = ("failed", told)
        self._settled.emit(job, *ending)

    def _settle(self, job: Job, ending: str, result: Any) -> None:
        self._running.pop(job).join()
        if job.is_cancelled() or ending == "cancelled":
            job.cancelled.emit()
        elif ending == "failed":
            job.failed.emit(result)
        else:
            job.done.emit(result)
        job.ended.emit()
