"""What can be taken hold of over a strip: the pointer is offered to each tool in turn before the strip itself."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter

from umbrick.ui.strips.strip import Strip
from umbrick.work.work import Work


class Tool:
    """Draws handles over a strip and answers the pointer while one of them is held."""

    def __init__(self, strip: Strip) -> None:
        self.strip = strip

    @property
    def work(self) -> Work | None:
        """The recording that is shown."""
        return self.strip._work

    @property
    def is_held_up(self) -> bool:
        """Whether it says over the strip how it is, so that nothing else is to be written there."""
        return False

    def draw(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        """Draw the handles over the waveform."""

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of a handle, if one is there; whether it was."""
        return False

    def double_click(self, event: QMouseEvent) -> bool:
        """Answer a double click; whether it meant this tool."""
        return False

    def move(self, event: QMouseEvent) -> None:
        """Go on with what is held."""

    def release(self, event: QMouseEvent) -> None:
        """Let go of it."""

    def shape_at(self, position: QPointF) -> Qt.CursorShape | None:
        """Return the pointer's shape over a handle, or None."""
        return None

    def tip_at(self, position: QPointF) -> str:
        """Return what a handle's tooltip says, or nothing."""
        return ""
