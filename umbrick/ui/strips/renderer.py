"""Makes pictures for one strip in the background: the newest request wins."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any, Protocol

from PySide6.QtCore import QObject, Signal

from umbrick.core.errors import CancelledError, UmbrickError
from umbrick.core.fault_log import fault_named, note_fault


class Request(Protocol):
    """All that a picture depends on, frozen: what makes it never looks at a widget.

    Equal requests give equal pictures.
    """

    def make(self, is_overtaken: Callable[[], bool], /) -> Any:
        """Return the picture; CancelledError, at will, once another one is asked for."""
        ...


class Renderer(QObject):
    """Makes one picture at a time; a request that is overtaken before it began is dropped.

    The strip paints the last picture it got, moved to where it belongs now, until the next one is ready.
    """

    ready = Signal(object, object)
    """A request, and its picture."""
    failed = Signal(str)
    fault = Signal(str, str)
    """A picture met a fault in Umbrick itself: the sentence, and all details."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._wake = threading.Condition()
        self._next: Request | None = None
        self.busy: Request | None = None
        self._closing = False
        self._thread = threading.Thread(target=self._run, name="renderer", daemon=True)
        self._thread.start()

    @property
    def is_idle(self) -> bool:
        """Whether no picture is being made."""
        return self._next is None and self.busy is None

    def request(self, request: Request) -> None:
        """Have a picture made, unless just that is being done."""
        with self._wake:
            if request not in (self.busy, self._next):
                self._next = request
                self._wake.notify()

    def close(self) -> None:
        """Stop the thread."""
        with self._wake:
            self._closing = True
            self._wake.notify()
        self._thread.join()

    def _is_overtaken(self) -> bool:
        return self._next is not None or self._closing

    def _run(self) -> None:
        while True:
            with self._wake:
                self._wake.wait_for(lambda: self._next or self._closing)
                if self._closing or self._next is None:
                    return
                request = self._next
                self._next, self.busy = None, request
            try:
                self.ready.emit(request, request.make(self._is_overtaken))
            except CancelledError:
                pass
            except UmbrickError as error:
                self.failed.emit(str(error))
            except Exception as error:
                self.fault.emit(f"Drawing met a {fault_named(error)}.", note_fault(error))
            finally:
                self.busy = None
