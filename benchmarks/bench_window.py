"""A bench to measure: the real window, offscreen, with an hour of sound open."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from benchmarks import long_recording

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


@contextmanager
def opened() -> Iterator[tuple[Any, Any]]:
    """Yield the window at 1280×800 with an hour of sound, and the application."""
    with (
        tempfile.TemporaryDirectory() as folder,
        showing(long_recording.write(Path(folder) / "hour.wav", 3600)) as shown,
    ):
        yield shown


@contextmanager
def showing(path: Path, output: Any = None) -> Iterator[tuple[Any, Any]]:
    """Yield the window at 1280×800 with a recording, and the application; its settings and cache go beside the file."""
    from PySide6.QtWidgets import QApplication

    from umbrick.core.paths import HOME_VARIABLE
    from umbrick.playback.simulated import SimulatedOutput
    from umbrick.ui import theme
    from umbrick.ui.window import BenchWindow

    os.environ[HOME_VARIABLE] = str(path.parent)
    application = QApplication.instance() or QApplication([])
    theme.load_fonts()
    window = BenchWindow(output or SimulatedOutput())
    window.resize(1280, 800)
    window.show()
    window.open([path])
    settle(window, application)
    yield window, application
    window.shut_down()


def settle(window, application) -> None:
    """Wait until the recording is open and all that was begun is done and drawn."""
    while not (window.bench.works and window.is_settled()):
        application.processEvents()
        time.sleep(0.0005)  # an idle window lets the pictures be made
