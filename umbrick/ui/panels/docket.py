"""The docket: findings by kind, with evidence, severity, confidence and state."""

from __future__ import annotations

from bisect import bisect_right
from typing import Any

import numpy as np
from PySide6.QtCore import (
    QAbstractListModel,
    QEvent,
    QItemSelectionModel,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    QPointF,
    QRectF,
    Qt,
)
from PySide6.QtGui import QKeyEvent, QPainter, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QSlider,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.table import Integers
from umbrick.core.units import format_clock, format_count, format_integer
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.listing import Listing
from umbrick.ui.bench.surveying import Surveying
from umbrick.ui.bench.work import Work
from umbrick.ui.icons import draw_glyph
from umbrick.ui.own_keys import keep_keys
from umbrick.ui.panels.rows import rows_of
from umbrick.ui.theme import emphasised

_Index = QModelIndex | QPersistentModelIndex
_NOWHERE = QModelIndex()
_SEARCH_KEYS = frozenset({Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape})
_ROW_HEIGHT = 40


class DocketModel(QAbstractListModel):
    """A row for each kind that has findings, and under it one for each finding."""

    ENTRY = Qt.ItemDataRole.UserRole

    def __init__(self) -> None:
        super().__init__()
        self._listing: Listing | None = None
        self._rate = 1
        self._sections: list[tuple[Kind, Integers]] = []
        self._tops: list[int] = []
        self._length = 0
        self._shut: set[str] = set()
        self._worst_first = False

    def show(self, work: Work | None, worst_first: bool = False) -> None:
        """List the findings of a recording, as they are now: of each kind the worst first, or the earliest."""
        listing = work.listing() if work else None
        if listing is not self._listing or worst_first != self._worst_first:
            self._worst_first = worst_first
            self._rate = work.rate if work else 1
            self._arrange(listing)

    def turn(self, kind: Kind) -> None:
        """Shut a kind's section, or open it again."""
        self._shut ^= {kind.name}
        self._arrange(self._listing)

    def is_shut(self, kind: Kind) -> bool:
        """Whether just a kind's heading is listed."""
        return kind.name in self._shut

    def kinds(self) -> list[Kind]:
        """Return the kinds that are listed."""
        return [kind for kind, _ in self._sections]

    def _arrange(self, listing: Listing | None) -> None:
        self.beginResetModel()
        self._listing = listing
        self._sections, self._tops, self._length = [], [], 0
        for kind in KINDS.values() if listing else ():
            rows = listing.rows[listing.table.of_kind(kind.name)[listing.rows]] if listing else np.zeros(0, np.int64)
            if not len(rows) or listing is None:
                continue
            if self._worst_first:
                severity = np.array([listing.table.findings[row].severity for row in rows.tolist()])
                rows = rows[np.argsort(-severity, kind="stable")]
            self._sections.append((kind, rows))
            self._tops.append(self._length)
            self._length += 1 + (0 if kind.name in self._shut else len(rows))
        self.endResetModel()

    def rowCount(self, parent: _Index = _NOWHERE) -> int:
        """Return the number of rows."""
        return 0 if parent.isValid() else self._length

    def entry(self, row: int) -> Finding | Kind:
        """Return what a row shows."""
        section = bisect_right(self._tops, row) - 1
        kind, rows = self._sections[section]
        index = row - self._tops[section] - 1
        return kind if index < 0 or self._listing is None else self._listing.table.findings[rows[index]]

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return a row's entry, or the words a screen reader speaks for it."""
        entry = self.entry(index.row())
        if role == self.ENTRY:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            if isinstance(entry, Kind):
                return f"{entry.title}, {self.count(entry)}: {entry.summary}"
            state = self.state_of(entry).value
            clock = format_clock(entry.start, self._rate)
            return (
                f"{clock}, {entry.evidence}; severity {entry.severity:.2f}, confidence {entry.confidence:.2f}, {state}"
            )
        return None

    def flags(self, index: _Index) -> Qt.ItemFlag:
        """Headings cannot be chosen."""
        if isinstance(self.entry(index.row()), Kind):
            return Qt.ItemFlag.ItemIsEnabled
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable

    def state_of(self, finding: Finding) -> State:
        """Return a finding's state."""
        return self._listing.state_of(finding) if self._listing else State.OPEN

    def clock(self, finding: Finding) -> str:
        """Return where a finding begins."""
        return format_clock(finding.start, self._rate)

    def count(self, kind: Kind) -> int:
        """Return how many findings of a kind are listed."""
        return next((len(rows) for own, rows in self._sections if own is kind), 0)

    def row_of(self, finding: Finding | None) -> int:
        """Return a finding's row, or −1."""
        table_row = self._listing.table.rows.get(finding.id) if self._listing and finding else None
        for (kind, rows), top in zip(self._sections, self._tops, strict=True):
            if table_row is None or finding is None or kind.name != finding.kind or self.is_shut(kind):
                continue
            if self._worst_first:
                found = np.flatnonzero(rows == table_row)
                return top + 1 + int(found[0]) if len(found) else -1
            index = int(np.searchsorted(rows, table_row))
            if index < len(rows) and rows[index] == table_row:
                return top + 1 + index
        return -1


class _Delegate(QStyledItemDelegate):
    def __init__(self, model: DocketModel, parent: QWidget) -> None:
        super().__init__(parent)
        self._model = model
        self.theme = themes.DAYLIGHT
        self.sifted: Kind | None = None

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        entry = index.data(DocketModel.ENTRY)
        rect = QRectF(option.rect)  # type: ignore[attr-defined]
        if isinstance(entry, Kind):
            self._paint_kind(painter, rect, entry)
        else:
            chosen = bool(option.state & QStyle.StateFlag.State_Selected)  # type: ignore[attr-defined]
            self._paint_finding(painter, rect, entry, chosen)

    def _paint_kind(self, painter: QPainter, rect: QRectF, kind: Kind) -> None:
        theme = self.theme
        painter.setPen(theme.color("rule"))
        painter.drawLine(rect.topLeft() + QPointF(12, 0.5), rect.topRight() + QPointF(-12, 0.5))
        if kind is self.sifted:
            painter.fillRect(QRectF(rect.left() + 3, rect.top() + 8, 3, rect.height() - 16), theme.color("ink"))
        draw_glyph(
            painter, kind.family, QPointF(rect.left() + 22, rect.center().y()), 11, theme.family(kind.family), True
        )
        painter.setFont(themes.font(13, themes.QFont.Weight.Medium))
        painter.setPen(theme.color("ink"))
        inner = rect.adjusted(36, 0, -14, 0)
        painter.drawText(
            inner, Qt.AlignmentFlag.AlignVCenter, f"{kind.title} …" if self._model.is_shut(kind) else kind.title
        )
        painter.setPen(theme.color("faint"))
        painter.drawText(
            inner, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, format_integer(self._model.count(kind))
        )

    def _paint_finding(self, painter: QPainter, rect: QRectF, finding: Finding, chosen: bool) -> None:
        theme = self.theme
        state = self._model.state_of(finding)
        if chosen:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(theme.color("mended"))
            painter.setBrush(theme.color("raised"))
            painter.drawRoundedRect(rect.adjusted(6.5, 1.5, -6.5, -1.5), 4, 4)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        inner = rect.adjusted(36, 4, -14, -4)
        upper, lower = inner.adjusted(0, 0, 0, -16), inner.adjusted(0, 16, 0, 0)
        painter.setFont(themes.font(13, themes.QFont.Weight.Medium))
        painter.setPen(theme.color("ink" if state is State.OPEN else "faint"))
        painter.drawText(upper, Qt.AlignmentFlag.AlignVCenter, self._model.clock(finding))
        right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        if state is State.OPEN:
            bar = QRectF(inner.right() - 44, upper.center().y() - 1, 44, 3)
            painter.fillRect(bar, theme.color("rule"))
            bar.setWidth(44 * finding.severity)
            painter.fillRect(bar, theme.family(KINDS[finding.kind].family))
        else:
            painter.setFont(themes.font(12))
            painter.setPen(theme.color("mended" if state is State.MENDED else "faint"))
            painter.drawText(upper, right, state.value)
        painter.setFont(themes.font(11))
        painter.setPen(theme.color("faint"))
        painter.drawText(lower, right, f"{100 * finding.confidence:.0f} %")
        words = painter.fontMetrics().elidedText(finding.evidence, Qt.TextElideMode.ElideRight, int(lower.width() - 40))
        painter.drawText(lower, Qt.AlignmentFlag.AlignVCenter, words)


class Docket(QWidget):
    """Lists findings, sifts them by sensitivity, and follows the focus."""

    def __init__(self, bench: Bench, surveying: Surveying, survey_button: QPushButton) -> None:
        super().__init__()
        self._bench = bench
        self._surveying = surveying
        self._sifted = next(iter(KINDS.values()))
        self._sifted_by_choice = False
        self.setAccessibleName("Docket")
        heading = QLabel("Docket")
        heading.setProperty("role", "heading")
        self.prognosis = QLabel()
        self.prognosis.setProperty("role", "faint")
        self.prognosis.setWordWrap(True)
        self.counts = QLabel()
        self.counts.setWordWrap(True)
        self.progress = QProgressBar(maximum=1000, textVisible=False)
        self.progress.hide()
        self.sensitivity = QSlider(Qt.Orientation.Horizontal, minimum=0, maximum=100)
        self.sensitivity.setToolTip("Left: only what is certain. Right: everything that was measured. Sifts at once.")
        keep_keys(self.sensitivity)
        self.sensitivity.valueChanged.connect(self._sensitivity_moved)
        self.sensitivity_label = QLabel("Sensitivity")
        self.sensitivity_label.setProperty("role", "faint")
        self.sensitivity_value = QLabel()
        self.sensitivity_value.setProperty("role", "faint")
        self.model = DocketModel()
        self.list = rows_of(self.model, "Findings", _ROW_HEIGHT)
        self.list.horizontalHeader().hide()
        self.list.horizontalHeader().setStretchLastSection(True)
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._delegate = _Delegate(self.model, self.list)
        self.list.setItemDelegate(self._delegate)
        self.list.selectionModel().currentChanged.connect(self._chosen)
        self.list.selectionModel().selectionChanged.connect(self._several_chosen)
        self.list.clicked.connect(self._clicked)
        self.list.doubleClicked.connect(self._double_clicked)
        self.search = QLineEdit(placeholderText="Show only (Ctrl+F)", clearButtonEnabled=True)
        self.search.setAccessibleName("Show only")
        self.search.setToolTip(
            "Words of the kind or the evidence; open, mended or kept; >80 or <80 for confidence. Esc shows all."
        )
        self.search.textChanged.connect(bench.set_sieve)
        self.search.returnPressed.connect(self._go_to_what_is_shown)
        keep_keys(self.search, _SEARCH_KEYS)
        self.search.installEventFilter(self)
        self.hint = QLabel()
        self.hint.setProperty("role", "faint")
        self.hint.setWordWrap(True)

        head = QHBoxLayout()
        head.addWidget(heading)
        head.addStretch()
        head.addWidget(survey_button)
        sift = QHBoxLayout()
        sift.addWidget(self.sensitivity_label)
        sift.addWidget(self.sensitivity)
        sift.addWidget(self.sensitivity_value)
        top = QVBoxLayout()
        top.setContentsMargins(16, 10, 12, 4)
        top.setSpacing(6)
        top.addLayout(head)
        for widget in (self.progress, self.prognosis, self.counts, self.search):
            top.addWidget(widget)
        top.addLayout(sift)
        foot = QVBoxLayout()
        foot.setContentsMargins(16, 4, 12, 8)
        foot.addWidget(self.hint)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(top)
        layout.addWidget(self.list, 1)
        layout.addLayout(foot)

        bench.recording_changed.connect(self._refresh)
        bench.findings_changed.connect(self._refresh)
        bench.version_changed.connect(self._refresh)
        bench.focus_changed.connect(self._follow_focus)
        surveying.changed.connect(self._refresh)
        surveying.progressed.connect(lambda share: self.progress.setValue(round(1000 * share)))
        self._refresh()

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self._delegate.theme = theme
        self.list.viewport().update()

    def _refresh(self) -> None:
        work = self._bench.work
        self.model.show(work, self._bench.worst_first)
        self.progress.setVisible(self._surveying.job is not None)
        surveyed = work is not None and work.survey is not None
        for widget in (self.sensitivity, self.prognosis, self.counts, self.search):
            widget.setEnabled(surveyed)
        if work is None:
            self.prognosis.setText("")
            self.counts.setText("")
            self.hint.setText("Open a recording, then survey it.")
            return
        if work.survey is None:
            self.prognosis.setText("Not surveyed yet: F5 measures it and lists what it finds.")
            self.counts.setText("")
            self.hint.setText("")
        else:
            listing = work.listing()
            measures = work.measures()
            self.prognosis.setText(measures.prognosis.reason if measures else "")
            states = {state: listing.count(state) for state in State}
            self.counts.setText(
                " · ".join(
                    [
                        emphasised(format_count(len(listing.rows), "finding")),
                        *(f"{format_integer(states[state])} {state.value}" for state in State if states[state]),
                        *([f"{format_integer(listing.sifted_out)} not shown"] if listing.sifted_out else []),
                    ]
                )
            )
            self.hint.setText("N next · Enter mend · K keep")
        kinds = self.model.kinds()
        if work.focus is None and kinds and not (self._sifted_by_choice and self._sifted in kinds):
            self._sifted = kinds[0]
        self._delegate.sifted = self._sifted if len(kinds) > 1 else None
        value = work.sensitivity_of(self._sifted.name)
        self.sensitivity_label.setText(f"Sensitivity · {self._sifted.title}")
        self.sensitivity.setAccessibleName(f"Sensitivity for {self._sifted.title.lower()}")
        self.sensitivity_value.setText(f"{value:.2f}")
        if self.sensitivity.value() != round(100 * value):
            self.sensitivity.blockSignals(True)
            self.sensitivity.setValue(round(100 * value))
            self.sensitivity.blockSignals(False)
        self._follow_focus()

    def _sensitivity_moved(self, value: int) -> None:
        self._bench.set_sensitivity(self._sifted.name, value / 100)

    def _sift(self, kind: Kind) -> None:
        """Have the slider mean a kind."""
        self._sifted_by_choice = True
        if kind is not self._sifted:
            self._sifted = kind
            self._refresh()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Show all again when Esc is pressed while sifting."""
        is_press = isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress
        if watched is self.search and is_press and event.key() == Qt.Key.Key_Escape:
            self.search.clear()
            self.list.setFocus()
            return True
        return super().eventFilter(watched, event)

    def _go_to_what_is_shown(self) -> None:
        """Leave the words, and go to the next finding that is shown, unless one that is has the focus."""
        if (work := self._bench.work) and self.model.row_of(work.focus) < 0:
            self._bench.focus_neighbour(1)
        self.list.setFocus()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the finding in focus in view, as when the ledger takes half of the room."""
        super().resizeEvent(event)
        self.layout().activate()
        if (index := self.list.currentIndex()).isValid():
            self.list.scrollTo(index)

    def _follow_focus(self) -> None:
        focus = self._bench.work.focus if self._bench.work else None
        if focus is not None:
            self._sift(KINDS[focus.kind])
        row = self.model.row_of(focus)
        selection = self.list.selectionModel()
        if row >= 0 and self.list.currentIndex().row() != row:
            index = self.model.index(row)
            selection.blockSignals(True)
            # The view itself would ask the keyboard: with Ctrl held, as in Ctrl+N, it would choose this row besides.
            selection.setCurrentIndex(index, QItemSelectionModel.SelectionFlag.ClearAndSelect)
            selection.blockSignals(False)
            self._several_chosen()
            self.list.scrollTo(index)
            self.list.viewport().update()
        elif row < 0:
            selection.clear()

    def _chosen(self, index: QModelIndex, _: QModelIndex) -> None:
        entry = index.data(DocketModel.ENTRY) if index.isValid() else None
        if isinstance(entry, Finding):
            self._bench.focus(entry)

    def _several_chosen(self) -> None:
        if work := self._bench.work:
            entries = [index.data(DocketModel.ENTRY) for index in self.list.selectionModel().selectedIndexes()]
            work.chosen = [entry for entry in entries if isinstance(entry, Finding)]

    def _clicked(self, index: QModelIndex) -> None:
        entry = index.data(DocketModel.ENTRY)
        if isinstance(entry, Kind):
            self._sift(entry)

    def _double_clicked(self, index: QModelIndex) -> None:
        entry = index.data(DocketModel.ENTRY)
        if isinstance(entry, Kind):
            self.model.turn(entry)
            self._follow_focus()
