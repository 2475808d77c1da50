"""Mending all alike: a count, a preview of where, and exceptions, before anything is done."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import compress
from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListView,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.survey.finding import Finding
from umbrick.core.survey.groups import Group, Groups
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.table import FindingTable
from umbrick.core.units import channel_name, format_clock, format_count
from umbrick.ui import theme as themes
from umbrick.ui.strips.wave_image import columns_of
from umbrick.work.work import Work

_NOWHERE = QModelIndex()
_DOUBTFUL = 0.5


class _Preview(QWidget):
    """Where in the recording it will be mended, and where not."""

    def __init__(self, frames: int, theme: themes.Theme) -> None:
        super().__init__()
        self._frames = frames
        self._theme = theme
        self.included = self.left_out = np.zeros((0, 2), np.int64)
        self.setFixedHeight(28)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._theme.color("paper"))
        for spans, color in ((self.left_out, "ghost"), (self.included, "mended")):
            for x in np.flatnonzero(columns_of(spans, 0, max(1, self._frames), self.width())).tolist():
                painter.fillRect(QRectF(x, 3, 1, self.height() - 6), self._theme.color(color))


class Choices(QAbstractListModel):
    """Findings with a tick each, or with one for those that belong together; a model, because there may be hundreds of
    thousands."""

    changed = Signal()

    def __init__(self, findings: list[Finding], work: Work) -> None:
        super().__init__()
        table = FindingTable.of(findings)
        self.findings = list(table.findings)
        self._groups = Groups(table, np.arange(len(findings)), work.rate)
        self._labels = self._groups.in_order()
        self._rate, self._channels = work.rate, work.channels
        # What is listed only because the sensitivity was raised is doubtful: it is mended if it is ticked by hand.
        self._confidences = table.confidences
        self._ticked = self._confidences >= _DOUBTFUL

    @property
    def count(self) -> int:
        """How many findings are ticked."""
        return int(np.count_nonzero(self._ticked))

    def included(self) -> list[Finding]:
        """Return the findings that are ticked."""
        return list(compress(self.findings, self._ticked))

    def spans(self, ticked: bool) -> npt.NDArray[np.int64]:
        """Return the spans of the findings that are ticked, or of those that are not."""
        chosen = compress(self.findings, self._ticked == ticked)
        return np.array([(finding.start, finding.stop) for finding in chosen], np.int64)

    def leave_out_below(self, confidence: float) -> None:
        """Tick the findings with at least this confidence, from 0 to 1, and only these."""
        self._ticked = self._confidences >= confidence
        self.dataChanged.emit(self.index(0), self.index(self.rowCount() - 1))
        self.changed.emit()

    def rowCount(self, parent: QModelIndex | QPersistentModelIndex = _NOWHERE) -> int:
        """Return the number of rows."""
        return 0 if parent.isValid() else len(self._labels)

    def data(self, index: QModelIndex | QPersistentModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return a row's words, or its tick: half a one where just some of its findings are mended."""
        label = int(self._labels[index.row()])
        if role == Qt.ItemDataRole.DisplayRole:
            entry = self._groups.group(label) or self._groups.first(label)
            if isinstance(entry, Group):
                return f"{entry.clock(self._rate)} · {entry.evidence}"
            channel = "" if self._channels == 1 else f" · {channel_name(entry.channels[0], self._channels)}"
            clock = format_clock(entry.start, self._rate)
            return f"{clock} · {100 * entry.confidence:.0f} %{channel} · {entry.evidence}"
        if role == Qt.ItemDataRole.CheckStateRole:
            ticked = self._ticked[self._groups.rows(label)]
            some = Qt.CheckState.PartiallyChecked if ticked.any() else Qt.CheckState.Unchecked
            return Qt.CheckState.Checked if ticked.all() else some
        return None

    def setData(
        self, index: QModelIndex | QPersistentModelIndex, value: Any, role: int = Qt.ItemDataRole.EditRole
    ) -> bool:
        """Set a tick, for all that belong together."""
        if role != Qt.ItemDataRole.CheckStateRole:
            return False
        rows = self._groups.rows(int(self._labels[index.row()]))
        self._ticked[rows] = Qt.CheckState(value) == Qt.CheckState.Checked
        self.dataChanged.emit(index, index)
        self.changed.emit()
        return True

    def flags(self, index: QModelIndex | QPersistentModelIndex) -> Qt.ItemFlag:
        """Every row can be ticked."""
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsUserCheckable


class MendAllDialog(QDialog):
    """Lists the open findings of some kinds; those unticked are left out. Enter mends.

    ``preferred`` gives for kinds the title of the candidate that was chosen.
    """

    def __init__(
        self,
        work: Work,
        kinds: Sequence[str],
        preferred: Mapping[str, str],
        theme: themes.Theme,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Mend all like this")
        self.setMinimumSize(560, 480)
        findings = [finding for kind in kinds for finding in work.listing().open_findings(kind)]
        self.choices = Choices(findings, work)
        self._title = " and ".join(KINDS[kind].title.lower() for kind in kinds)
        self.count = QLabel()
        self.count.setProperty("role", "heading")
        self.how = QLabel(_how(kinds, preferred))
        self.how.setProperty("role", "faint")
        self.how.setWordWrap(True)
        self._preview = _Preview(work.frames, theme)
        self.filter = QLineEdit(placeholderText="Leave out below this confidence, such as 80 %")
        self.filter.setAccessibleName("Lowest confidence")
        self.filter.textChanged.connect(self._leave_out_doubtful)
        self.list = QListView()
        self.list.setAccessibleName("Findings to mend")
        self.list.setUniformItemSizes(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setModel(self.choices)
        self.choices.changed.connect(self._refresh)
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
        for widget in (self.count, self.how, self._preview, self.filter):
            layout.addWidget(widget)
        layout.addWidget(self.list, 1)
        layout.addLayout(buttons)
        self.mend_button.setFocus()
        self._refresh()

    def included(self) -> list[Finding]:
        """Return the findings that are to be mended."""
        return self.choices.included()

    def _leave_out_doubtful(self, text: str) -> None:
        try:
            lowest = float(text.replace("%", "").replace(",", ".").strip() or 0)
        except ValueError:
            self.filter.setProperty("wrong", True)
            self.filter.style().polish(self.filter)
            return
        self.filter.setProperty("wrong", False)
        self.filter.style().polish(self.filter)
        self.choices.leave_out_below(lowest / 100)

    def _refresh(self) -> None:
        count, total = self.choices.count, len(self.choices.findings)
        self._preview.included, self._preview.left_out = self.choices.spans(True), self.choices.spans(False)
        self._preview.update()
        left_out = f", {total - count} left out" if count < total else ""
        self.count.setText(f"{format_count(count, 'place')} of {self._title}{left_out}")
        self.mend_button.setText(f"Mend {count}  Enter")
        self.mend_button.setEnabled(count > 0)


def _how(kinds: Sequence[str], preferred: Mapping[str, str]) -> str:
    """Return in words which candidates will mend."""
    chosen = [f"{KINDS[kind].title}: “{preferred[kind]}”, as chosen." for kind in kinds if kind in preferred]
    if len(chosen) == len(kinds):
        return " ".join([*chosen, "All in one step that one undo takes back."])
    each = "All others are" if chosen else "Each is"
    return " ".join([*chosen, f"{each} mended with its best candidate, in one step that one undo takes back."])
