"""A label that says so when it has no room for all of its words."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel, QSizePolicy


class Sentence(QLabel):
    """One line of plain text that takes what room there is; what does not fit ends in dots, and the tip has all."""

    def __init__(self) -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)

    def say(self, text: str) -> None:
        """Show a text."""
        self.setText(text)
        self.setToolTip(text)

    @property
    def shown(self) -> str:
        """What of the text there is room for."""
        room = self.contentsRect().width()
        return self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, room)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the text, or as much of it as there is room for."""
        shown = self.shown
        if shown == self.text():
            super().paintEvent(event)
            return
        painter = QPainter(self)
        self.style().drawItemText(
            painter, self.contentsRect(), int(self.alignment()), self.palette(), True, shown, self.foregroundRole()
        )
