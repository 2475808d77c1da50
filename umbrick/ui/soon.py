"""Doing something once after all that asks for it in one turn of the event loop."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Qt, Signal


class Soon(QObject):
    """Runs a function before the next event from outside, however often it was asked for meanwhile."""

    _asked = Signal()

    def __init__(self, parent: QObject, run: Callable[[], None]) -> None:
        super().__init__(parent)
        self._run = run
        self._is_due = False
        # Queued, not timed: what is posted comes before keys and the pointer, which so meet what is up to date.
        self._asked.connect(self._now, Qt.ConnectionType.QueuedConnection)

    def ask(self) -> None:
        """Have it run."""
        if not self._is_due:
            self._is_due = True
            self._asked.emit()

    def _now(self) -> None:
        self._is_due = False
        self._run()
