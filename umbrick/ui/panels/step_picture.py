"""What the pictures of a step of the course have in common."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize
from PySide6.QtWidgets import QSizePolicy, QWidget

from umbrick.ui import theme as themes

FOOT = 14
"""How high the line with the scale is, below the plot."""

_WIDTH = 240


class StepPicture(QWidget):
    """A plot as wide as the panel, with a scale below it."""

    def __init__(self, height: int) -> None:
        super().__init__()
        self.theme = themes.DAYLIGHT
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(height)

    def sizeHint(self) -> QSize:
        """Return the usual size."""
        return QSize(_WIDTH, self.maximumHeight())

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.theme = theme
        self.update()

    def _plot(self) -> QRectF:
        return QRectF(0, 0, self.width(), self.height() - FOOT)
