"""The batch window: a regimen on a folder, with what became of each file as it comes."""

from __future__ import annotations

import os
import threading
import time
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices, QIntValidator
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from umbrick.core.errors import UmbrickError
from umbrick.core.regimen.regimen import Regimen
from umbrick.core.units import format_count
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.dialogs.foot import sheet_layout
from umbrick.work.batch.gathering import Item, gathered
from umbrick.work.batch.naming import AS_IT_IS, checked
from umbrick.work.batch.reports import write_report
from umbrick.work.batch.running import Outcome, run_batch
from umbrick.work.batch.treating import FAILED, Order

_ENDINGS = (".wav", ".flac", ".aiff")
_RATES = (44100, 48000, 88200, 96000)
_MOST_JOBS = 256


class BatchDialog(QDialog):
    """Starts, stops and goes on; closing it stops. What is done stays done, and is not done again."""

    def __init__(self, bench: Bench, regimen: Regimen, folder: Path | None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._bench = bench
        self._regimen = regimen
        self._job: Job | None = None
        self._stop = threading.Event()
        self._began = 0.0
        self._count = 0
        self.report_path: Path | None = None
        self.setWindowTitle(f"Batch: {regimen.name}")
        self.resize(820, 520)
        self.source = QLineEdit(str(folder or ""))
        self.source.setAccessibleName("Folder of recordings")
        self.out = QLineEdit()
        self.out.setAccessibleName("Folder for the results")
        self.jobs = QLineEdit(str(max(1, (os.cpu_count() or 2) // 2)))
        self.jobs.setAccessibleName("Files side by side")
        self.jobs.setValidator(QIntValidator(1, _MOST_JOBS, self.jobs))
        self.jobs.setFixedWidth(48)
        self.casebooks = QCheckBox("A casebook beside each result")
        self.dry = QCheckBox("Only survey and report")
        form = QFormLayout()
        form.addRow("Recordings", self._row(self.source, "Recordings to treat"))
        form.addRow("Results", self._row(self.out, "Where the results go"))
        options = QHBoxLayout()
        options.addWidget(self.jobs)
        options.addWidget(QLabel("files side by side"))
        options.addWidget(self.casebooks)
        options.addWidget(self.dry)
        options.addStretch()
        self.name = QLineEdit(AS_IT_IS)
        self.name.setAccessibleName("Names of the results")
        self.name.setToolTip("{name}, {folder} and {regimen} stand for the source's name, its folder and the regimen.")
        self.suffix = _choice(
            "Format", [("format as it is", ""), *((ending[1:].upper(), ending) for ending in _ENDINGS)]
        )
        self.rate = _choice("Rate", [("rate as it is", None), *((f"{rate / 1000:g} kHz", rate) for rate in _RATES)])
        names = QHBoxLayout()
        names.addWidget(self.name, 1)
        names.addWidget(self.suffix)
        names.addWidget(self.rate)
        form.addRow("Names", names)
        form.addRow("", options)
        self.table = QTableWidget(0, 3)
        self.table.setHorizontalHeaderLabels(["File", "Done", "For your ear, or why not"])
        self.table.setAccessibleName("Files")
        self.table.setProperty("role", "ledger")
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.table.verticalHeader().setVisible(False)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.table.setColumnWidth(0, 240)
        self.table.setColumnWidth(1, 130)
        self.bar = QProgressBar(textVisible=False)
        self.told = QLabel(
            "Files that are done already are not done again; what needs an ear comes first in the report."
        )
        self.told.setProperty("role", "note")
        self.told.setWordWrap(True)
        self.report_button = QPushButton("Open the report")
        self.report_button.setEnabled(False)
        self.report_button.clicked.connect(self._open_report)
        self.stop_button = QPushButton("Stop")
        self.stop_button.setEnabled(False)
        self.stop_button.clicked.connect(self._ask_stop)
        self.start_button = QPushButton("Start")
        self.start_button.setProperty("accent", True)
        self.start_button.setDefault(True)
        self.start_button.clicked.connect(self.start)
        buttons = QHBoxLayout()
        buttons.addWidget(self.report_button)
        buttons.addStretch()
        buttons.addWidget(self.stop_button)
        buttons.addWidget(self.start_button)
        layout = sheet_layout(self)
        layout.addLayout(form)
        layout.addWidget(self.table, 1)
        layout.addWidget(self.bar)
        layout.addWidget(self.told)
        layout.addLayout(buttons)
        self.source.textChanged.connect(self._propose_out)
        self._propose_out()

    @property
    def is_running(self) -> bool:
        """Whether files are being treated."""
        return self._job is not None

    def start(self) -> None:
        """Begin, or go on where it stopped."""
        if self._job is not None:
            return
        if not self.jobs.hasAcceptableInput():
            self.told.setText(f"Files side by side are a number from 1 to {_MOST_JOBS}.")
            return
        source, out = Path(self.source.text().strip()).expanduser(), Path(self.out.text().strip()).expanduser()
        try:
            if not self.source.text().strip():
                self.told.setText("Choose the folder of recordings first.")
                return
            if not source.exists():
                self.told.setText(f"There is no {source}: choose the folder of recordings.")
                return
            items = gathered([source], out)
            order = Order(
                str(out),
                self._regimen.document(),
                with_casebooks=self.casebooks.isChecked(),
                is_dry=self.dry.isChecked(),
                suffix=self.suffix.currentData(),
                rate=self.rate.currentData(),
                name=checked(self.name.text().strip()),
            )
        except UmbrickError as error:
            self.told.setText(str(error))
            return
        if not items:
            self.told.setText(f"There is no recording in {source}.")
            return
        jobs, regimen = int(self.jobs.text()), self._regimen
        self._stop = stop = threading.Event()
        self._began, self._count = time.monotonic(), 0
        self.table.setRowCount(0)
        self.bar.setRange(0, len(items))
        self.bar.setValue(0)

        def run(job: Job) -> tuple[Outcome, Path]:
            def told(item: Item, entry: dict[str, Any]) -> None:
                job.came.emit((item, entry))

            outcome = run_batch(items, order, jobs, told, lambda: stop.is_set() or job.is_cancelled())
            write_report(list(outcome.entries.values()), regimen.document(), out / "report.json")
            return outcome, out / "report.json"

        self._job = self._bench.jobs.start(
            "batch", run, self._done, self._came, failed=self.told.setText, ended=self._ended
        )
        self.start_button.setEnabled(False)
        self.stop_button.setEnabled(True)
        self.told.setText(f"{format_count(len(items), 'file')} found.")

    def reject(self) -> None:
        """Close; what is in work is finished first, as nothing is left half done."""
        self._stop.set()
        super().reject()

    def _row(self, field: QLineEdit, title: str) -> QHBoxLayout:
        browse = QPushButton("Choose…")
        browse.setAutoDefault(False)

        def choose() -> None:
            if path := QFileDialog.getExistingDirectory(self, title, field.text()):
                field.setText(path)

        browse.clicked.connect(choose)
        row = QHBoxLayout()
        row.addWidget(field)
        row.addWidget(browse)
        return row

    def _propose_out(self) -> None:
        source = Path(self.source.text().strip())
        if source.name:
            self.out.setText(str(source.with_name(f"{source.name}-mended")))

    def _came(self, came: tuple[Item, dict[str, Any]]) -> None:
        item, entry = came
        self._count += 1
        row = self.table.rowCount()
        self.table.insertRow(row)
        is_failed = entry["status"] == FAILED
        done = "failed" if is_failed else format_count(len(entry["mends"]), "mend")
        said = entry["reason"] if is_failed else "; ".join(entry["ear"])
        for column, text in enumerate((str(item.place), done, said)):
            cell = QTableWidgetItem(text)
            cell.setToolTip(text)
            cell.setFlags(cell.flags() & ~Qt.ItemFlag.ItemIsEditable)
            self.table.setItem(row, column, cell)
        self.table.scrollToBottom()
        self.bar.setValue(self._count)
        left = (self.bar.maximum() - self._count) * (time.monotonic() - self._began) / self._count
        self.told.setText(f"{self._count} of {self.bar.maximum()} done; about {left / 60:.0f} min left.")

    def _done(self, made: tuple[Outcome, Path]) -> None:
        outcome, self.report_path = made
        told = outcome.told
        if outcome.is_full:
            told = f"The disk is full: make room, and start again. {told}"
        elif outcome.stopped:
            told = f"Stopped; Start goes on. {told}"
        self.bar.setValue(self.bar.maximum() if not outcome.stopped else self._count)
        self.told.setText(told)
        self.report_button.setEnabled(True)

    def _ended(self) -> None:
        self._job = None
        self.start_button.setEnabled(True)
        self.stop_button.setEnabled(False)

    def _ask_stop(self) -> None:
        self._stop.set()
        self.told.setText("Stopping when what is in work is done.")

    def _open_report(self) -> None:
        if self.report_path is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.report_path.with_suffix(".html"))))


def _choice(title: str, choices: list[tuple[str, Any]]) -> QComboBox:
    box = QComboBox()
    box.setAccessibleName(title)
    for text, value in choices:
        box.addItem(text, value)
    return box
