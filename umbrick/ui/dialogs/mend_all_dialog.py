"""Mending all alike: a count, a preview of where, and exceptions, before anything is done."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.survey.finding import Finding
from umbrick.core.survey.registry import KINDS
from umbrick.core.units import format_clock, format_count
from umbrick.ui import theme as themes
from umbrick.ui.bench.work import Work
from umbrick.ui.strips.wave_image import columns_of


class _Preview(QWidget):
    """Where in the recording it will be mended, and where not."""

    def __init__(self, frames: int, theme: themes.Theme) -> None:
        super().__init__()
        self._frames = frames
        self._theme = theme
        self.included: list[Finding] = []
        self.left_out: list[Finding] = []
        self.setFixedHeight(28)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._theme.color("paper"))
        for findings, color in ((self.left_out, "ghost"), (self.included, "mended")):
            spans = [(finding.start, finding.stop) for finding in findings]
            for x in np.flatnonzero(columns_of(spans, 0, max(1, self._frames), self.width())).tolist():
                painter.fillRect(QRectF(x, 3, 1, self.height() - 6), self._theme.color(color))


class MendAllDialog(QDialog):
    """Lists the open findings of a kind; those unticked are left out. Return mends."""

    def __init__(self, work: Work, kind: str, theme: themes.Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Mend all like this")
        self.setMinimumSize(560, 480)
        self._findings = work.listing().open_findings(kind)
        self._title = KINDS[kind].title.lower()
        self.count = QLabel()
        self.count.setProperty("role", "heading")
        how = QLabel("Each is mended with its best candidate, in one step that one undo takes back.")
        how.setProperty("role", "faint")
        how.setWordWrap(True)
        self._preview = _Preview(work.frames, theme)
        self.filter = QLineEdit(placeholderText="Leave out below this confidence, such as 80 %")
        self.filter.setAccessibleName("Lowest confidence")
        self.filter.textChanged.connect(self._leave_out_doubtful)
        self.list = QListWidget()
        self.list.setAccessibleName("Findings to mend")
        for finding in self._findings:
            channel = "" if work.channels == 1 else f" · channel {finding.channels[0] + 1}"
            item = QListWidgetItem(
                f"{format_clock(finding.start, work.rate)} · {finding.evidence}{channel}"
                f" · {100 * finding.confidence:.0f} %"
            )
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked)
            self.list.addItem(item)
        self.list.itemChanged.connect(self._refresh)
        self.mend_button = QPushButton()
        self.mend_button.setProperty("accent", True)
        self.mend_button.setDefault(True)
        self.mend_button.clicked.connect(self.accept)
        cancel = QPushButton("Cancel")
        cancel.setAutoDefault(False)
        cancel.clicked.connect(self.reject)
        buttons = QHBoxLayout()
        buttons.addStretch()
        buttons.addWidget(cancel)
        buttons.addWidget(self.mend_button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 16, 20, 16)
        layout.setSpacing(10)
        for widget in (self.count, how, self._preview, self.filter):
            layout.addWidget(widget)
        layout.addWidget(self.list, 1)
        layout.addLayout(buttons)
        self.mend_button.setFocus()
        self._refresh()

    def included(self) -> list[Finding]:
        """Return the findings that are ticked."""
        ticked = Qt.CheckState.Checked
        return [f for row, f in enumerate(self._findings) if self.list.item(row).checkState() == ticked]

    def _leave_out_doubtful(self, text: str) -> None:
        try:
            lowest = float(text.replace("%", "").replace(",", ".").strip() or 0)
        except ValueError:
            self.filter.setProperty("wrong", True)
            self.filter.style().polish(self.filter)
            return
        self.filter.setProperty("wrong", False)
        self.filter.style().polish(self.filter)
        self.list.blockSignals(True)
        for row, finding in enumerate(self._findings):
            keeps = 100 * finding.confidence >= lowest
            self.list.item(row).setCheckState(Qt.CheckState.Checked if keeps else Qt.CheckState.Unchecked)
        self.list.blockSignals(False)
        self._refresh()

    def _refresh(self) -> None:
        included = self.included()
        chosen = {finding.id for finding in included}
        self._preview.included = included
        self._preview.left_out = [finding for finding in self._findings if finding.id not in chosen]
        self._preview.update()
        total = len(self._findings)
        self.count.setText(
            f"{format_count(len(included), 'place')} of {self._title}"
            + (f", {total - len(included)} left out" if len(included) < total else "")
        )
        self.mend_button.setText(f"Mend {len(included)}  Return")
        self.mend_button.setEnabled(bool(included))
