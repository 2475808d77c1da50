"""The ledger: a drawer at the bottom that lists every mend, each of which can be switched, changed or lifted off."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable
from datetime import datetime
from typing import Any

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QItemSelectionModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.mend.registry import settings_told
from umbrick.core.timeline.history import Entry
from umbrick.core.timeline.lifting import span_of
from umbrick.core.timeline.provenance import provenance_shares
from umbrick.core.timeline.version import Version
from umbrick.core.units import channel_name, format_clock, format_count, format_length, format_percent, format_shift
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.lifting import Lifting
from umbrick.ui.panels.rows import rows_of
from umbrick.ui.theme import emphasised
from umbrick.work.work import Work

_Index = QModelIndex | QPersistentModelIndex
_NOWHERE = QModelIndex()
_ROW_HEIGHT = 24
_COLUMNS = ("On", "Made", "Where", "Length", "Channels", "Method", "Settings", "Time", "Seam")
_ON, _MADE, _WHERE, _LENGTH, _CHANNELS, _METHOD, _SETTINGS, _TIME, _SEAM = range(len(_COLUMNS))
_HINTS = {
    _ON: "Whether the mend acts (X switches it)",
    _TIME: "How much longer or shorter the recording became",
    _SEAM: "How little the joins stand out, from 0 to 1; a dash where there is none to score",
}
_CHOOSABLE = Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsEnabled
_TICKABLE = _CHOOSABLE | Qt.ItemFlag.ItemIsUserCheckable
_WIDTHS = (34, 96, 96, 76, 84, 72, 250, 76, 52)


_KEYS: dict[int, Callable[[Entry], Any]] = {
    _ON: lambda e: e.is_on,
    _WHERE: lambda e: e.mend.start,
    _LENGTH: lambda e: e.mend.stop - e.mend.start,
    _CHANNELS: lambda e: e.mend.channels[0],
    _METHOD: lambda e: e.mend.method,
    _TIME: lambda e: e.mend.time_shift,
    _SEAM: lambda e: -1.0 if e.mend.seam_score is None else e.mend.seam_score,
}
"""What each column sorts by, where it is not the order in which the mends were made."""


class LedgerModel(QAbstractTableModel):
    """One line a mend, the newest first, or in order of place."""

    def __init__(self) -> None:
        super().__init__()
        self._work: Work | None = None
        self._ledger: tuple[Entry, ...] = ()
        self._order = self._row_of = np.zeros(0, np.int64)
        self._spans: dict[str, tuple[int, int] | None] = {}
        self._sorting = (_MADE, Qt.SortOrder.DescendingOrder)

    def show(self, work: Work | None) -> None:
        """List the mends of a recording, as they are now."""
        ledger = work.history.ledger if work else ()
        if work is self._work and ledger is self._ledger:
            return
        self.beginResetModel()
        self._work, self._ledger = work, ledger
        self._spans.clear()
        self._arrange()
        self.endResetModel()

    def entry(self, row: int) -> Entry:
        """Return what a row shows."""
        return self._ledger[self._order[row]]

    def row_of(self, name: str) -> int:
        """Return the row of a mend, or −1."""
        if self._work is None or not self._work.history.has_entry(name):
            return -1
        number = self._work.history.entry(name).number
        index = bisect_left(self._ledger, number, key=lambda entry: entry.number)
        return int(self._row_of[index]) if index < len(self._ledger) else -1

    def rowCount(self, parent: _Index = _NOWHERE) -> int:
        """Return the number of mends."""
        return 0 if parent.isValid() else len(self._ledger)

    def columnCount(self, parent: _Index = _NOWHERE) -> int:
        """Return the number of columns."""
        return 0 if parent.isValid() else len(_COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return a column's title."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return _COLUMNS[section]
        return _HINTS.get(section) if role == Qt.ItemDataRole.ToolTipRole else None

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return the text of a cell; a switched-off mend is faint."""
        entry = self.entry(index.row())
        if role == Qt.ItemDataRole.DisplayRole:
            return self._text(entry, index.column())
        if role == Qt.ItemDataRole.CheckStateRole and index.column() == _ON:
            return Qt.CheckState.Checked if entry.is_on else Qt.CheckState.Unchecked
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            cells = (f"{name} {self._text(entry, column)}" for column, name in enumerate(_COLUMNS) if column != _ON)
            return f"{'on' if entry.is_on else 'switched off'}, {', '.join(cells)}"
        return None

    def flags(self, index: _Index) -> Qt.ItemFlag:
        """Every line can be chosen, and its box be ticked."""
        return _TICKABLE if index.column() == _ON else _CHOOSABLE

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """List in the order of a column."""
        self._sorting = column, order
        self.layoutAboutToBeChanged.emit()
        self._arrange()
        self.layoutChanged.emit()

    def _arrange(self) -> None:
        """Work out which entry stands in which row; the ledger itself is in the order in which they were made."""
        column, order = self._sorting
        rows = np.arange(len(self._ledger))
        if column in _KEYS:
            values = np.array([_KEYS[column](entry) for entry in self._ledger])
            rows = np.argsort(values, kind="stable")
        self._order = rows if order == Qt.SortOrder.AscendingOrder else rows[::-1]
        self._row_of = np.empty(len(rows), np.int64)
        self._row_of[self._order] = np.arange(len(rows))

    def _text(self, entry: Entry, column: int) -> str:
        work, mend = self._work, entry.mend
        assert work is not None
        if column == _ON:
            return ""
        if column == _MADE:
            return when(mend.made_at)
        if column == _WHERE:
            span = self._span(work, entry)
            return format_clock(span[0], work.rate) if span else f"({format_clock(mend.start, work.rate)})"
        if column == _LENGTH:
            return format_length(mend.stop - mend.start, work.rate)
        if column == _CHANNELS:
            every = len(mend.channels) == work.channels
            return "all" if every else ", ".join(channel_name(c, work.channels) for c in mend.channels)
        if column == _METHOD:
            return mend.method
        if column == _SETTINGS:
            return settings_told(mend)
        if column == _TIME:
            return format_shift(mend.time_shift, work.rate) if mend.time_shift else "–"
        return "–" if mend.seam_score is None else f"{mend.seam_score:.2f}"

    def _span(self, work: Work, entry: Entry) -> tuple[int, int] | None:
        name = entry.mend.id
        if name not in self._spans:
            self._spans[name] = span_of(work.version, entry)
        return self._spans[name]


class Ledger(QWidget):
    """The drawer: the list, what can be done with the chosen lines, and where the recording's samples come from."""

    def __init__(self, bench: Bench, lifting: Lifting, buttons: dict[str, QPushButton]) -> None:
        super().__init__()
        self._bench = bench
        self._lifting = lifting
        self.setAccessibleName("Ledger")
        heading = QLabel("Ledger")
        heading.setProperty("role", "heading")
        self.summary = QLabel()
        self.summary.setProperty("role", "faint")
        self.model = LedgerModel()
        self.list = rows_of(self.model, "Mends", _ROW_HEIGHT)
        self.list.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setWordWrap(False)
        self.list.setProperty("role", "ledger")
        header = self.list.horizontalHeader()
        header.setHighlightSections(False)
        header.setSectionResizeMode(_SETTINGS, QHeaderView.ResizeMode.Stretch)
        for column, width in enumerate(_WIDTHS):
            self.list.setColumnWidth(column, width)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setSortIndicator(_MADE, Qt.SortOrder.DescendingOrder)
        self.list.setSortingEnabled(True)
        self.list.selectionModel().selectionChanged.connect(self._selected)
        self.list.clicked.connect(self._clicked)
        head = QHBoxLayout()
        head.setSpacing(8)
        head.addWidget(heading)
        head.addWidget(self.summary, 1)
        for button in buttons.values():
            head.addWidget(button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 6, 12, 0)
        layout.setSpacing(4)
        layout.addLayout(head)
        layout.addWidget(self.list, 1)
        self._follows = False
        self._summed_for: tuple[Version, tuple[Entry, ...]] | None = None
        for signal in (bench.recording_changed, bench.edited, lifting.changed):
            signal.connect(self._refresh)
        self._refresh()

    def showEvent(self, event: Any) -> None:
        """Catch up with what happened while the drawer was shut."""
        super().showEvent(event)
        self._refresh()

    def _refresh(self) -> None:
        if not self.isVisible():
            return
        work = self._bench.work
        self._follows = True
        self.model.show(work)
        self._select_chosen()
        self._follows = False
        shown = (work.version, work.history.ledger) if work else None
        held = self._summed_for
        if shown is None or held is None or shown[0] is not held[0] or shown[1] is not held[1]:
            self._summed_for = shown
            self.summary.setText(summary_of(work) if work else "")

    def _select_chosen(self) -> None:
        rows = [row for name in self._lifting.chosen if (row := self.model.row_of(name)) >= 0]
        selection = self.list.selectionModel()
        if sorted(rows) == sorted(index.row() for index in selection.selectedRows()):
            return
        selection.clearSelection()
        how = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
        for row in rows:
            selection.select(self.model.index(row, 0), how)
        if rows:
            selection.setCurrentIndex(self.model.index(rows[-1], 0), QItemSelectionModel.SelectionFlag.NoUpdate)
            self.list.scrollTo(self.model.index(rows[-1], 0))

    def _selected(self) -> None:
        if not self._follows:
            selection = self.list.selectionModel()
            rows = [index.row() for index in selection.selectedRows()]
            current = selection.currentIndex().row()
            rows.sort(key=lambda row: row == current)
            self._lifting.choose([self.model.entry(row).mend.id for row in rows])

    def _clicked(self, index: QModelIndex) -> None:
        if index.column() == _ON:
            self._lifting.choose([self.model.entry(index.row()).mend.id])
            self._lifting.switch()


def when(made_at: float) -> str:
    """Return when a mend was made: the time for today's, else the day too."""
    moment = datetime.fromtimestamp(made_at)
    if moment.date() == datetime.now().date():
        return f"{moment:%H:%M:%S}"
    return f"{moment.day} {moment:%b} {moment:%H:%M}"


def summary_of(work: Work) -> str:
    """Return where the samples of a recording come from, in percent, as rich text."""
    shares = provenance_shares(work.version, work.history.original)
    parts = [f"{name} {format_percent(share)}" for name, share in shares.items() if share or name == "original"]
    acting = work.history.mend_count
    off = len(work.history.ledger) - acting
    counts = format_count(acting, "mend") + (f", {off} switched off" if off else "")
    return f"{emphasised(counts)} · {' · '.join(parts)}"
