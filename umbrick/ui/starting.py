"""The first moments: an empty bench that is painted at once, while what takes seconds to load comes in behind it."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QIcon, QPainter, QPaintEvent
from PySide6.QtWidgets import QApplication, QWidget

from umbrick.ui import settings, theme
from umbrick.ui.icons import application_icon

_SIZE = 1280, 800
DESKTOP_NAME = "org.umbrick.Umbrick"
"""The name of the desktop file, by which a desktop knows the window as this program's."""


def started_application() -> QApplication:
    """Return the application, with its name, icon and typeface."""
    application = QApplication.instance() or QApplication(["umbrick"])
    assert isinstance(application, QApplication)
    application.setApplicationName("Umbrick")
    application.setDesktopFileName(DESKTOP_NAME)
    application.setWindowIcon(QIcon(application_icon()))
    theme.load_fonts()
    return application


class Starting(QWidget):
    """What is seen until the bench can be used: its paper, where it will stand, and one sentence."""

    painted = Signal()
    """It can be seen."""

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Umbrick")
        self.resize(*_SIZE)
        remembered = settings.open_settings()
        if (geometry := remembered.value("geometry")) is not None:
            self.restoreGeometry(geometry)
        name = str(remembered.value("theme", theme.DAYLIGHT.name))
        self._theme = theme.THEMES.get(name, theme.DAYLIGHT)
        self._is_painted = False

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the paper and the sentence."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self._theme.paper))
        painter.setPen(QColor(self._theme.faint))
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "The bench is being laid out…")
        if not self._is_painted:
            self._is_painted = True
            self.painted.emit()


class Loading(QObject):
    """Loads something in a thread of its own, and hands it over on the interface's."""

    _came = Signal(object)

    def __init__(self, parent: QObject, load: Callable[[], Any], then: Callable[[Any], None]) -> None:
        super().__init__(parent)
        self._came.connect(then, Qt.ConnectionType.QueuedConnection)
        self._load = load
        self._thread = threading.Thread(target=self._run, name="loading", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def _run(self) -> None:
        try:
            came = self._load()
        except Exception as error:
            came = error
        self._came.emit(came)
