"""What a rehearsal showed: a table and a picture of how near every mend came to the truth, and a choice."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractItemView, QDialog, QLabel, QTableWidget, QTableWidgetItem, QWidget

from umbrick.core.mend.rehearsal import Row
from umbrick.core.survey.registry import KINDS
from umbrick.core.units import format_count, format_length
from umbrick.ui import theme as themes
from umbrick.ui.bench.rehearsing import Rehearsed
from umbrick.ui.dialogs.foot import Foot, sheet_layout

_LINE = 26


class _Picture(QWidget):
    """A line for each mend: a dot for every place it was tried at, further right the nearer to the truth."""

    def __init__(self, rows: tuple[Row, ...], theme: themes.Theme) -> None:
        super().__init__()
        self._rows, self._theme = rows, theme
        self.setFixedHeight(_LINE * len(rows) + 22)
        self.setAccessibleName("Error against the truth at every place")

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the dots, and a bar at the mean."""
        theme, painter = self._theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.color("paper"))
        values = np.array([ratio for row in self._rows for ratio in row.ratios_db if np.isfinite(ratio)] or [0.0])
        low, high = min(0.0, float(values.min())) - 2, float(values.max()) + 2
        left, width = 150.0, self.width() - 170.0

        def x_of(ratio_db: float) -> float:
            return left + width * (ratio_db - low) / (high - low)

        painter.setFont(themes.font(11))
        bottom = _LINE * len(self._rows)
        for tick in range(int(np.ceil(low / 10)) * 10, int(high) + 1, 10):
            painter.setPen(QPen(theme.color("rule"), 1))
            painter.drawLine(QPointF(x_of(tick), 0), QPointF(x_of(tick), bottom))
            painter.setPen(theme.color("faint"))
            painter.drawText(QRectF(x_of(tick) - 30, bottom + 3, 60, 16), Qt.AlignmentFlag.AlignCenter, f"{tick} dB")
        for number, row in enumerate(self._rows):
            middle = _LINE * (number + 0.5)
            color = theme.color("mended" if number == 0 else "body")
            painter.setPen(theme.color("ink"))
            painter.drawText(QRectF(8, middle - 10, left - 16, 20), Qt.AlignmentFlag.AlignVCenter, row.title)
            painter.setPen(QPen(color, 1))
            painter.drawLine(QPointF(left, middle), QPointF(left + width, middle))
            painter.setBrush(color)
            for ratio in row.ratios_db:
                if np.isfinite(ratio):
                    painter.drawEllipse(QPointF(x_of(ratio), middle), 3, 3)
            painter.fillRect(QRectF(x_of(max(low, row.mean_db)) - 1, middle - 8, 2.5, 16), color)


class RehearsalDialog(QDialog):
    """The mends, best first; the one that is chosen comes first in this recording from then on."""

    def __init__(self, rehearsed: Rehearsed, theme: themes.Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        rows = rehearsed.rehearsal.rows
        work, finding = rehearsed.work, rehearsed.finding
        self.setWindowTitle("Which works best here?")
        self.setMinimumWidth(620)
        length = format_length(finding.stop - finding.start, work.rate)
        places = format_count(len(rehearsed.rehearsal.places), "clean place")
        intro = QLabel(
            f"{KINDS[finding.kind].title} of {length}, planted at {places} of this recording and mended there. "
            "The more decibels, the less the mend differs from what was there before."
        )
        intro.setWordWrap(True)
        self.table = QTableWidget(len(rows), 3)
        self.table.setProperty("role", "ledger")
        self.table.setAccessibleName("Mends")
        self.table.setHorizontalHeaderLabels(["Mend", "Mean", "Worst"])
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        for number, row in enumerate(rows):
            known = [ratio for ratio in row.ratios_db if np.isfinite(ratio)]
            worst = f"{min(known):.1f} dB" if known else "not here"
            for column, text in enumerate((row.title, f"{row.mean_db:.1f} dB", worst)):
                self.table.setItem(number, column, QTableWidgetItem(text))
        self.table.setColumnWidth(0, 300)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.table.selectRow(0)
        self.table.setFixedHeight(34 + 31 * len(rows))
        lead_db = rows[0].mean_db - rows[1].mean_db if len(rows) > 1 else 0.0
        verdict = QLabel(
            f"“{rows[0].title}” comes nearest, {lead_db:.1f} dB ahead of the next."
            if lead_db >= 0.5
            else f"“{rows[0].title}” comes nearest, but others do as well: choose by ear (1 to 5)."
        )
        verdict.setProperty("role", "note")
        verdict.setWordWrap(True)
        layout = sheet_layout(self)
        for widget in (intro, self.table, _Picture(rows, theme), verdict):
            layout.addWidget(widget)
        layout.addLayout(Foot(self, "Prefer this mend here"))

    @property
    def chosen(self) -> str:
        """The title of the mend that is chosen."""
        item = self.table.item(self.table.currentRow(), 0)
        return item.text() if item else ""
