"""What dehumming takes: the level of the hum at every harmonic; a click spares one."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPoint, QRectF, Qt, Signal
from PySide6.QtGui import QHelpEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip

from umbrick.core.units import format_db
from umbrick.ui import theme as themes
from umbrick.ui.panels.step_picture import FOOT, StepPicture

_RANGE_DB = 70.0
_HEADROOM = 8
_LABEL = 44


class HarmonicsPicture(StepPicture):
    """A bar for every harmonic: what is taken of it in dBFS, or, hollow, what is left as it is."""

    toggled = Signal(int)
    """The number of a harmonic that is to be spared, or not any more."""

    def __init__(self) -> None:
        super().__init__(112)
        self._hz = 50.0
        self._levels: tuple[float, ...] = ()
        self._taken: frozenset[int] = frozenset()
        self.setAccessibleName("Harmonics of the hum")
        self.setToolTip("Click a harmonic to leave it as it is")

    def show_hum(self, hz: float, levels_db: Sequence[float], taken: frozenset[int]) -> None:
        """Show the levels of the harmonics of a fundamental, and which are taken."""
        self._hz, self._levels, self._taken = hz, tuple(levels_db), taken
        self.update()

    def told(self, number: int) -> str:
        """Return a harmonic in words, such as ``150.1 Hz loses −41 dBFS``."""
        level = format_db(self._levels[number - 1], "dBFS")
        does = "loses" if number in self._taken else "stays, at"
        return f"{self._hz * number:.1f} Hz {does} {level}"

    def rect_of(self, number: int) -> QRectF:
        """Return the column of a harmonic."""
        width = self.width() / max(1, len(self._levels))
        return QRectF((number - 1) * width, 0, width, self.height() - FOOT)

    def number_at(self, x: float) -> int | None:
        """Return the harmonic at a pixel."""
        number = int(x * len(self._levels) // max(1, self.width())) + 1
        return number if 1 <= number <= len(self._levels) else None

    def event(self, event: QEvent) -> bool:
        """Tell of the harmonic under the pointer."""
        if isinstance(event, QHelpEvent) and (number := self.number_at(event.pos().x())):
            QToolTip.showText(event.globalPos() + QPoint(8, 8), self.told(number), self)
            return True
        return super().event(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Spare a harmonic, or take it."""
        if number := self.number_at(event.position().x()):
            self.toggled.emit(number)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the bars."""
        painter = QPainter(self)
        painter.fillRect(self._plot(), self.theme.color("paper"))
        if not self._levels:
            return
        top_db, free_from = max(self._levels), 0.0
        painter.setFont(themes.font(10))
        for number, level_db in enumerate(self._levels, 1):
            column = self.rect_of(number)
            share = max(0.02, 1 - (top_db - level_db) / _RANGE_DB)
            height = share * (column.height() - _HEADROOM)
            bar = QRectF(column.x() + 1, column.bottom() - height, max(1.0, column.width() - 2), height)
            if number in self._taken:
                painter.fillRect(bar, self.theme.color("wrong", 150))
            else:
                painter.setPen(QPen(self.theme.color("ghost"), 1))
                painter.drawRect(bar.adjusted(0, 0, -1, -1))
            if column.x() >= free_from and column.x() + _LABEL <= self.width():
                free_from = column.x() + _LABEL + 6
                painter.setPen(self.theme.color("faint"))
                foot = QRectF(column.x() + 1, column.bottom(), _LABEL, FOOT)
                painter.drawText(foot, Qt.AlignmentFlag.AlignVCenter, f"{self._hz * number:.0f} Hz")
