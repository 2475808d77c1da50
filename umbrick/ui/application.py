"""Starting the interface: checks, typeface, window, and what happens when something unforeseen does."""

from __future__ import annotations

import gc
import os
import signal
import sys
import threading
import traceback
from collections.abc import Callable, Mapping
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

import PySide6
from PySide6.QtCore import QTimer

from umbrick.core.errors import UmbrickError
from umbrick.core.fault_log import fault_named, note_fault, watch_for_crashes
from umbrick.ui import settings
from umbrick.ui.collecting import Collecting
from umbrick.ui.starting import Loading, Starting, started_application

if TYPE_CHECKING:
    from umbrick.ui.window import BenchWindow

_SHOT_POLL_MS = 50


UNCHANGED = 3
"""Exit status of a round trip from which the file comes back as it was."""


def run(files: list[Path], shot: Path | None = None, is_round_trip: bool = False) -> int:
    """Open the bench with files and stay until it is closed; with ``shot``, save a picture of it and end.

    On a round trip another program waits for the one file, and putting it back closes the bench.

    Returns
    -------
    int
        Exit status: 0, or after a round trip ``UNCHANGED`` if the file was not put back changed.

    Raises
    ------
    UmbrickError
        If there is no display, this build of Qt cannot be relied on, or the picture cannot be written.
    """
    refuse_without_display(os.environ)
    refuse_unreliable_qt(PySide6.__version_info__[:2], sys.version_info[:2])
    if shot is not None and not os.access(shot.absolute().parent, os.W_OK):
        raise _unwritable(shot)
    application = started_application()
    crash_log = watch_for_crashes()
    Collecting(application)
    signal.signal(signal.SIGINT, lambda *_: application.quit())
    starting = Starting()
    starting.show()
    windows: list[BenchWindow] = []
    faults: list[BaseException] = []
    saved: list[Path] = []

    def lay_out(loaded: Any) -> None:
        if isinstance(loaded, BaseException):
            faults.append(loaded)
            application.quit()
            return
        # What was loaded until now stays; looking through it again and again would take long.
        gc.freeze()
        make, output, note = loaded
        window = make(output, is_round_trip)
        windows.append(window)
        _report_faults(window.bench.failed.emit)
        window.listening.wanted = settings.output_choice()
        if shot is None:
            window.fit_into_screen()
        window.show()
        starting.close()
        bench = window.bench
        window.opening.open(files, lambda: bench.show_work(bench.works[0] if bench.works else None))
        if note:
            bench.said.emit(note)
        if shot is not None:
            window.resize(1280, 800)
            _save_when_settled(window, shot, saved, application.quit)
        elif not is_round_trip:
            window.casebooks.look_for_work(window.offer_work_left)

    loading = Loading(starting, _load, lay_out)
    starting.painted.connect(loading.start)
    application.setQuitOnLastWindowClosed(True)
    status = application.exec()
    if crash_log is not None:
        crash_log.flush()
    if faults:
        raise faults[0]
    if not windows:
        return UNCHANGED if is_round_trip else status  # it was closed before it could be used
    (window,) = windows
    if shot is not None:
        window.shut_down()
        window.hide()
        if not saved:
            raise _unwritable(shot)
        return 0
    return UNCHANGED if is_round_trip and not window.put_back_in_trip else status


def _unwritable(shot: Path) -> UmbrickError:
    return UmbrickError(f"The picture {shot} cannot be written.")


def _load() -> tuple[type[BenchWindow], Any, str]:
    """Load what the window needs, and open the sound output, on whichever thread."""
    from umbrick.core.quick_transforms import use_quick_transforms
    from umbrick.playback.output import output_for
    from umbrick.ui.window import BenchWindow

    use_quick_transforms()

    return BenchWindow, *output_for(settings.output_choice())


def refuse_without_display(environment: Mapping[str, str]) -> None:
    """Raise UmbrickError where Qt would abort for want of a display."""
    if not any(environment.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        raise UmbrickError(
            "There is no display to open a window on.",
            "Set DISPLAY; or use ./run demo, which starts a virtual one; or the commands survey and mend.",
        )


def refuse_unreliable_qt(qt: tuple[int, ...], python: tuple[int, ...]) -> None:
    """Raise UmbrickError for the release of PySide6 that dies while painting on Python 3.11."""
    if qt >= (6, 12) and python < (3, 12):
        raise UmbrickError(
            "PySide6 6.12 loses count of references on Python 3.11 and would crash.",
            "Install the versions in requirements.lock (./run setup does).",
        )


def _save_when_settled(window: BenchWindow, path: Path, saved: list[Path], then: Callable[[], None]) -> None:
    timer = QTimer(window, interval=_SHOT_POLL_MS)

    def look() -> None:
        if window.bench.works and window.is_settled():
            timer.stop()
            if window.grab().save(str(path)):
                saved.append(path)
            then()

    timer.timeout.connect(look)
    timer.start()


def _report_faults(tell: Callable[[str], None]) -> None:
    """Say unforeseen faults in the status line instead of dying with them; the details go to the log."""

    def report(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        note_fault(error)
        traceback.print_exception(kind, error, trace)
        tell(f"A {fault_named(error)}. The recordings are untouched; save a copy soon.")

    sys.excepthook = report
    threading.excepthook = lambda args: report(args.exc_type, args.exc_value or Exception(), args.exc_traceback)
