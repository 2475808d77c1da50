"""Collecting garbage on the interface's thread alone."""

from __future__ import annotations

import gc
import time

from PySide6.QtCore import QObject, QTimer

_EVERY_MS = 100
_REST = 50
"""After looking through everything, so many times as long as that took is left in peace."""

_ALL = 2


class Collecting(QObject):
    """Has Python look for garbage on the thread this was made on, now and then, and on no other.

    By itself Python looks on whichever thread allocates. A thread that mends could so come to destroy a closed
    dialog, and Qt crashes when an object is destroyed on a thread that is not its own.

    Parameters
    ----------
    parent : QObject
        On the interface's thread.
    """

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self._rests_until = 0.0
        self._timer = QTimer(self, interval=_EVERY_MS)
        self._timer.timeout.connect(self._collect)
        self._timer.start()

    def _collect(self) -> None:
        """Look through the oldest generation that is due."""
        began = time.perf_counter()
        for generation in (_ALL, 1, 0):
            is_due = gc.get_count()[generation] > gc.get_threshold()[generation]
            if is_due and (generation < _ALL or began >= self._rests_until):
                gc.collect(generation)
                if generation == _ALL:
                    now = time.perf_counter()
                    self._rests_until = now + _REST * (now - began)
                return

    def stop(self) -> None:
        """Leave it to Python again."""
        self._timer.stop()
        gc.enable()
