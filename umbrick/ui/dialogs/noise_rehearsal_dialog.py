"""What a rehearsal of lowering noise showed: how much nearer to the truth each amount came."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractItemView, QDialog, QLabel, QTableWidget, QTableWidgetItem, QWidget

from umbrick.core.units import format_clock
from umbrick.ui.bench.rehearsing_noise import RehearsedNoise
from umbrick.ui.dialogs.foot import Foot, sheet_layout


class NoiseRehearsalDialog(QDialog):
    """The amounts that were tried; the one that is chosen becomes the step's."""

    def __init__(self, rehearsed: RehearsedNoise, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        rehearsal = rehearsed.rehearsal
        self.setWindowTitle("How far to lower noise?")
        self.setMinimumWidth(520)
        where = format_clock(rehearsal.start, rehearsed.rate, 0)
        intro = QLabel(
            f"More of the recording's own noise was added where it is loud, from {where}, and taken out again. "
            "The more decibels, the nearer what is left comes to what was there before."
        )
        intro.setWordWrap(True)
        tried = rehearsal.tried
        self._amounts = [one.reduction_db for one in tried]
        self.table = QTableWidget(len(tried), 2)
        self.table.setProperty("role", "ledger")
        self.table.setAccessibleName("Amounts")
        self.table.setHorizontalHeaderLabels(["Lowered by up to", "Nearer by"])
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setColumnWidth(0, 220)
        for row, one in enumerate(tried):
            for column, text in enumerate((f"{one.reduction_db:g} dB", f"{one.gain_db:.1f} dB")):
                self.table.setItem(row, column, QTableWidgetItem(text))
        self.table.selectRow(self._amounts.index(rehearsal.advised.reduction_db))
        self.table.setFixedHeight(34 + 31 * len(tried))
        verdict = QLabel(f"{rehearsal.advised.reduction_db:g} dB are as good as more, to half a decibel.")
        verdict.setProperty("role", "note")
        layout = sheet_layout(self)
        for widget in (intro, self.table, verdict):
            layout.addWidget(widget)
        layout.addLayout(Foot(self, "Lower by this"))

    @property
    def chosen_db(self) -> float:
        """The amount that is chosen."""
        return self._amounts[max(0, self.table.currentRow())]
