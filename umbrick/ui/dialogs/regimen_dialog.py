"""The editor of a regimen: its steps in order, each with a switch, where it is done, and its settings as typed."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from umbrick.core.errors import ParameterError
from umbrick.core.mend.registry import METHODS, method_named
from umbrick.core.names import KIND_NAMES
from umbrick.core.regimen.regimen import SCHEMA, Regimen, Step
from umbrick.ui.dialogs.foot import Foot, sheet_layout

_ON, _METHOD, _WHERE, _SETTINGS = range(4)
RUN, SAVE, BATCH = "run", "save", "batch"


class RegimenDialog(QDialog):
    """Everything is checked as it is typed. ``wanted`` says what is to be done with the regimen when it is accepted."""

    def __init__(self, regimen: Regimen, can_run: bool, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.wanted = SAVE
        self.regimen = regimen
        self._confidence, self._sensitivity = regimen.least_confidence, dict(regimen.sensitivity)
        self.setWindowTitle("Regimen")
        self.resize(860, 420)
        self.name = QLineEdit(regimen.name)
        self.name.setAccessibleName("Name")
        self.name.textChanged.connect(self._check)
        self.table = QTableWidget(0, 4)
        self.table.setHorizontalHeaderLabels(["", "Method", "Where", "Settings"])
        self.table.setAccessibleName("Steps")
        self.table.setProperty("role", "ledger")
        self.table.verticalHeader().setVisible(False)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        header = self.table.horizontalHeader()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        header.setSectionResizeMode(_SETTINGS, QHeaderView.ResizeMode.Stretch)
        for column, width in ((_ON, 32), (_METHOD, 130), (_WHERE, 220)):
            self.table.setColumnWidth(column, width)
        self.table.itemChanged.connect(self._check)
        self.table.currentCellChanged.connect(lambda *_: self._explain())
        self.adding = QComboBox()
        self.adding.setAccessibleName("Method to add")
        for name in sorted(METHODS, key=lambda name: METHODS[name].title):
            self.adding.addItem(METHODS[name].title, name)
        self.note = QLabel()
        self.note.setProperty("role", "note")
        self.note.setWordWrap(True)
        row = QHBoxLayout()
        row.addWidget(self.adding)
        for text, do in (("Add", self._add), ("Earlier", lambda: self._move(-1)), ("Later", lambda: self._move(1)),
                         ("Take out", self._take_out)):  # fmt: skip
            button = QPushButton(text)
            button.setAutoDefault(False)
            button.clicked.connect(do)
            row.addWidget(button)
        row.addStretch()
        self.batch_button = QPushButton("Run on a folder…")
        self.batch_button.clicked.connect(lambda: self._finish(BATCH))
        self.run_button = QPushButton("Run on this recording")
        self.run_button.clicked.connect(lambda: self._finish(RUN))
        foot = Foot(self, "Save…", self.run_button, self.batch_button)
        self.accept_button = foot.accept
        self._can_run = can_run
        layout = sheet_layout(self)
        layout.addWidget(self.name)
        layout.addWidget(self.table, 1)
        layout.addLayout(row)
        layout.addWidget(self.note)
        layout.addLayout(foot)
        for step in regimen.steps:
            self._put(self.table.rowCount(), step)
        self._check()

    def _finish(self, wanted: str) -> None:
        self.wanted = wanted
        self.accept()

    def _put(self, at: int, step: Step) -> None:
        self.table.blockSignals(True)
        self.table.insertRow(at)
        on = QTableWidgetItem()
        on.setFlags(Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
        on.setCheckState(Qt.CheckState.Checked if step.is_on else Qt.CheckState.Unchecked)
        method = QTableWidgetItem(step.method.title)
        method.setData(Qt.ItemDataRole.UserRole, step.method.name)
        method.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
        where = QTableWidgetItem(step.where.text)
        settings = QTableWidgetItem(_told(step))
        for column, item in ((_ON, on), (_METHOD, method), (_WHERE, where), (_SETTINGS, settings)):
            self.table.setItem(at, column, item)
        self.table.blockSignals(False)

    def _add(self) -> None:
        method = method_named(str(self.adding.currentData()))
        minds = next((kind for kind in KIND_NAMES if kind in getattr(method.does, "minds", ())), "")
        where = f"findings:{minds}" if minds else "all"
        entry = {"schema": SCHEMA, "steps": [{"method": method.name, "where": where}]}
        at = self.table.rowCount()
        self._put(at, Regimen.parsed(entry).steps[0])
        self.table.selectRow(at)
        self._check()

    def _move(self, by: int) -> None:
        at = self.table.currentRow()
        to = at + by
        if at < 0 or not 0 <= to < self.table.rowCount():
            return
        self.table.blockSignals(True)
        for column in range(4):
            one, other = self.table.takeItem(at, column), self.table.takeItem(to, column)
            self.table.setItem(at, column, other)
            self.table.setItem(to, column, one)
        self.table.blockSignals(False)
        self.table.selectRow(to)
        self._check()

    def _take_out(self) -> None:
        if (at := self.table.currentRow()) >= 0:
            self.table.removeRow(at)
            self._check()

    def _check(self, *_: object) -> None:
        try:
            self.regimen = Regimen.parsed(self._document())
            problem = ""
        except ParameterError as error:
            problem = str(error)
        self.accept_button.setEnabled(not problem)
        self.batch_button.setEnabled(not problem)
        self.run_button.setEnabled(not problem and self._can_run)
        if problem:
            self.note.setText(problem)
        else:
            self._explain()

    def _explain(self) -> None:
        """Say which settings the chosen step has, with their units and ranges."""
        at = self.table.currentRow()
        item = self.table.item(at, _METHOD) if at >= 0 else None
        if item is None:
            self.note.setText(
                "Where: all, pauses, findings:KIND[,KIND], or spans:[[start,end]]. Mends come first, then the course. "
                f"Findings less sure than {self._confidence:.2f} are left for an ear."
            )
            return
        method = method_named(str(item.data(Qt.ItemDataRole.UserRole)))
        parts = []
        for parameter in method.parameters:
            if parameter.choices and parameter.kind == "choice":
                parts.append(f"{parameter.name} ({', '.join(parameter.choices)})")
            elif parameter.low is not None and parameter.high is not None:
                parts.append(
                    f"{parameter.name} ({parameter.low:g} to {parameter.high:g} {parameter.unit})".replace(" )", ")")
                )
            else:
                parts.append(parameter.name)
        self.note.setText(f"{method.summary} Settings: {', '.join(parts) or 'none'}.")

    def _document(self) -> dict[str, Any]:
        steps = []
        for row in range(self.table.rowCount()):
            items = [self.table.item(row, column) for column in range(4)]
            on, method, where, settings = items
            if on is None or method is None or where is None or settings is None:
                continue
            steps.append(
                {
                    "method": method.data(Qt.ItemDataRole.UserRole),
                    "where": where.text(),
                    "set": _settings(settings.text(), row + 1),
                    "is_on": on.checkState() is Qt.CheckState.Checked,
                }
            )
        survey = {"sensitivity": self._sensitivity, "least_confidence": self._confidence}
        return {"schema": SCHEMA, "name": self.name.text().strip(), "survey": survey, "steps": steps}


def _told(step: Step) -> str:
    """Return the settings that are not the usual ones, as they are typed."""
    usual = {parameter.name: parameter.default for parameter in step.method.parameters}
    own = {name: value for name, value in step.settings.items() if value != usual.get(name)}
    texts = {name: f"{value:g}" if isinstance(value, float) else value for name, value in own.items()}
    return "; ".join(f"{name} = {text}" for name, text in texts.items())


def _settings(text: str, number: int) -> dict[str, str]:
    given = {}
    for part in filter(None, (part.strip() for part in text.split(";"))):
        name, equals, value = part.partition("=")
        if not equals:
            raise ParameterError(f"Step {number}: “{part[:40]}” is not NAME = VALUE; settings are set apart by “;”.")
        given[name.strip()] = value.strip()
    return given
