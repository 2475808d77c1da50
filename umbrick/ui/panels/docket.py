"""The docket: findings by kind, with evidence, severity, confidence and state."""

from __future__ import annotations

from PySide6.QtCore import (
    QEvent,
    QItemSelectionModel,
    QModelIndex,
    QObject,
    Qt,
)
from PySide6.QtGui import QKeyEvent, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.groups import Group
from umbrick.core.survey.registry import KINDS
from umbrick.core.units import format_count, format_integer
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.surveying import Surveying
from umbrick.ui.own_keys import keep_keys
from umbrick.ui.panels.docket_model import DocketModel
from umbrick.ui.panels.docket_rows import HEADING_HEIGHT, ROW_HEIGHT, DocketList, DocketRows
from umbrick.ui.panels.rows import with_rows
from umbrick.ui.theme import emphasised

_SEARCH_KEYS = frozenset({Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape})


class Docket(QWidget):
    """Lists findings, sifts them by sensitivity, and follows the focus."""

    def __init__(self, bench: Bench, surveying: Surveying, survey_button: QPushButton) -> None:
        super().__init__()
        self._bench = bench
        self._surveying = surveying
        self._sifted = next(iter(KINDS.values()))
        self._sifted_by_choice = False
        self._headings: list[int] = []
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
        self.sensitivity = QSlider(Qt.Orientation.Horizontal)
        self.sensitivity.setRange(0, 100)
        self.sensitivity.setToolTip("Left: only what is certain. Right: everything that was measured. Sifts at once.")
        keep_keys(self.sensitivity)
        self.sensitivity.valueChanged.connect(self._sensitivity_moved)
        self.sensitivity_label = QLabel("Sensitivity")
        self.sensitivity_label.setProperty("role", "faint")
        self.sensitivity_value = QLabel()
        self.sensitivity_value.setProperty("role", "faint")
        self.model = DocketModel()
        self.list = with_rows(DocketList(self.model), self.model, "Findings", ROW_HEIGHT)
        self.list.turn_wanted.connect(self._turn)
        self.list.horizontalHeader().hide()
        self.list.horizontalHeader().setStretchLastSection(True)
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.model.modelReset.connect(self._size_headings)
        self._delegate = DocketRows(self.model, self.list)
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
        bench.edited.connect(self._refresh)
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
        key = event.key() if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress else None
        if watched is self.search and key == Qt.Key.Key_Escape:
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
        if layout := self.layout():
            layout.activate()
        if (index := self.list.currentIndex()).isValid():
            self.list.scrollTo(index)

    def _size_headings(self) -> None:
        """Have headings take less room; a row that was one and is one no more takes that of the others again."""
        for row in self._headings:
            self.list.setRowHeight(row, ROW_HEIGHT)
        self._headings = list(self.model.headings())
        for row in self._headings:
            self.list.setRowHeight(row, HEADING_HEIGHT)

    def _turn(self, entry: Kind | Group) -> None:
        """Open or shut a section or a group, and leave the chosen row where it is, or go to the group that is shut."""
        work = self._bench.work
        self.model.turn(entry)
        if work and isinstance(entry, Group) and not self.model.is_open(entry) and work.focus in entry.findings:
            self._bench.focus_group(work, entry.findings[0])
        self._follow_focus()

    def _follow_focus(self) -> None:
        work = self._bench.work
        focus = work.focus if work else None
        as_group = False
        if work is not None and focus is not None:
            self._sift(KINDS[focus.kind])
            as_group = len(work.chosen) > 1 and work.listing().group_of(focus) == work.chosen
            if len(work.chosen) <= 1:
                self.model.open_around(focus)
        row = self.model.row_of(focus, as_group)
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
        if isinstance(entry, Group) and self._bench.work:
            self._bench.focus_group(self._bench.work, entry.findings[0])
        elif isinstance(entry, Finding):
            self._bench.focus(entry)

    def _several_chosen(self) -> None:
        if self._bench.work:
            entries = [index.data(DocketModel.ENTRY) for index in self.list.selectionModel().selectedIndexes()]
            chosen: dict[str, Finding] = {}
            for entry in entries:
                if not isinstance(entry, Kind):
                    findings = entry.findings if isinstance(entry, Group) else (entry,)
                    chosen |= {finding.id: finding for finding in findings}
            self._bench.choose(list(chosen.values()))

    def _clicked(self, index: QModelIndex) -> None:
        entry = index.data(DocketModel.ENTRY)
        if isinstance(entry, Kind):
            self._sift(entry)

    def _double_clicked(self, index: QModelIndex) -> None:
        entry = index.data(DocketModel.ENTRY)
        if not isinstance(entry, Finding):
            self._turn(entry)
