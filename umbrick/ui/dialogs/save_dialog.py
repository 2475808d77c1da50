"""Saving: where, in which format, and at which level, with the peaks told before they could be lost."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.errors import ParameterError
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.saving import format_for, name_for_kept
from umbrick.core.units import amplitude_to_db, format_db, format_lowering, parse_db
from umbrick.ui.bench.saving import Order, replaces_source
from umbrick.ui.bench.work import Work

_CHOICES = (("As the source", None), ("16 bit", "PCM_16"), ("24 bit", "PCM_24"), ("32 bit float", "FLOAT"))
_FLOAT_SUFFIXES = (".wav", ".rf64", ".w64", ".aif", ".aiff", ".caf")


class SaveDialog(QDialog):
    """Asks how to save. The usual answer is chosen already, so Return is enough."""

    def __init__(self, work: Work, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._work = work
        self._order: Order | None = None
        self.setWindowTitle("Save a copy")
        self.setMinimumWidth(560)
        source = work.home
        self.path = QLineEdit(str(_free_name(source)))
        self.path.setAccessibleName("File")
        browse = QPushButton("Choose…")
        browse.setAutoDefault(False)
        browse.clicked.connect(self._browse)
        self.subtype = QComboBox()
        self.subtype.setAccessibleName("Sample format")
        for text, subtype in _CHOICES:
            self.subtype.addItem(text, subtype)
        self.levels = QButtonGroup(self)
        self.lower = QRadioButton()
        self.as_is = QRadioButton("Leave the level; what passes full scale is cut off again")
        self.as_float = QRadioButton("Leave the level and save 32 bit float, which holds peaks above full scale")
        self.typed = QRadioButton("Change the level by")
        self.gain = QLineEdit("0 dB")
        self.gain.setAccessibleName("Level change")
        self.gain.setFixedWidth(90)
        self.gain.textEdited.connect(lambda _: self.typed.setChecked(True))
        for button in (self.lower, self.as_float, self.as_is, self.typed):
            self.levels.addButton(button)
        self.facts = QLabel()
        self.facts.setWordWrap(True)
        self.note = QLabel()
        self.note.setProperty("role", "note")
        self.note.setWordWrap(True)
        self.accept_button = QPushButton("Save")
        self.accept_button.setProperty("accent", True)
        self.accept_button.setDefault(True)
        cancel = QPushButton("Cancel")
        cancel.setAutoDefault(False)
        cancel.clicked.connect(self.reject)
        self.accept_button.clicked.connect(self.accept)

        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.addWidget(QLabel("File"), 0, 0)
        grid.addWidget(self.path, 0, 1)
        grid.addWidget(browse, 0, 2)
        grid.addWidget(QLabel("Format"), 1, 0)
        grid.addWidget(self.subtype, 1, 1, Qt.AlignmentFlag.AlignLeft)
        typed_row = QHBoxLayout()
        typed_row.addWidget(self.typed)
        typed_row.addWidget(self.gain)
        typed_row.addStretch()
        level = QVBoxLayout()
        level.addWidget(self.facts)
        for button in (self.lower, self.as_float, self.as_is):
            level.addWidget(button)
        level.addLayout(typed_row)
        grid.addWidget(QLabel("Level"), 2, 0, Qt.AlignmentFlag.AlignTop)
        grid.addLayout(level, 2, 1, 1, 2)
        buttons = QHBoxLayout()
        buttons.addStretch()
        buttons.addWidget(cancel)
        buttons.addWidget(self.accept_button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 16, 20, 16)
        layout.setSpacing(12)
        layout.addLayout(grid)
        layout.addWidget(self.note)
        layout.addLayout(buttons)

        self._offer_levels()
        self.as_float.toggled.connect(self._name_for_float)
        for signal in (
            self.path.textChanged,
            self.subtype.currentIndexChanged,
            self.gain.textChanged,
            self.levels.buttonToggled,
        ):
            signal.connect(self._refresh)
        self._refresh()

    @property
    def order(self) -> Order:
        """What was asked for; only after the dialog was accepted."""
        assert self._order is not None
        return self._order

    def _offer_levels(self) -> None:
        work = self._work
        peak_db = amplitude_to_db(work.peak)
        passes = peak_db > 0 and work.history.latest is not None
        for button in (self.lower, self.as_float):
            button.setVisible(passes)
        if not passes:
            self.facts.setText(f"The highest peak is {format_db(peak_db)}; it fits.")
            self.as_is.setText("Leave the level")
            self.as_is.setChecked(True)
            return
        self.facts.setText(f"Rebuilt peaks reach {format_db(peak_db)}: a fixed-point file ends at 0 dBFS.")
        lower_by = format_lowering(work.fitting_gain_db)
        self.lower.setText(f"Lower everything by {lower_by}, so that nothing is cut off")
        is_float = not work.recording.format.is_fixed_point
        (self.as_is if is_float else self.lower).setChecked(True)
        if is_float:
            self.as_is.setText("Leave the level; the float file holds it")

    def _browse(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Save a copy", self.path.text(), options=QFileDialog.Option.DontConfirmOverwrite
        )
        if path:
            self.path.setText(path)

    def _name_for_float(self, chosen: bool) -> None:
        """Give the file an ending that can hold float samples, and the old one back when it need not."""
        path = Path(self.path.text())
        if chosen and path.suffix.lower() not in _FLOAT_SUFFIXES:
            self.path.setText(str(_free(path.with_suffix(".wav"))))
        elif not chosen and path.suffix == ".wav" and self._work.home.suffix != ".wav":
            self.path.setText(str(_free(path.with_suffix(self._work.home.suffix))))

    def _refresh(self) -> None:
        try:
            self._order, note = self._read()
            problem = ""
        except ParameterError as error:
            self._order, note, problem = None, "", str(error)
        self.accept_button.setEnabled(not problem)
        self.accept_button.setText("Replace" if self._order and self._order.overwrite else "Save")
        self.note.setText(problem or note)

    def _read(self) -> tuple[Order, str]:
        """Return the order as the fields are now, and what is to be said about it; ParameterError if it cannot be."""
        work = self._work
        text = self.path.text().strip()
        if not text:
            raise ParameterError("Give the file a name.")
        path = Path(text).expanduser().absolute()
        subtype = "FLOAT" if self.as_float.isChecked() else self.subtype.currentData()
        if self.as_float.isChecked() and path.suffix.lower() not in _FLOAT_SUFFIXES:
            raise ParameterError(
                f"{path.suffix or 'A file without ending'} cannot hold float samples.",
                "End the name in .wav, .aiff or .caf.",
            )
        form = format_for(path, work.recording.format, subtype)
        gain_db = 0.0
        if self.lower.isChecked():
            gain_db = work.fitting_gain_db if form.is_fixed_point else 0.0
        elif self.typed.isChecked():
            gain_db = parse_db(self.gain.text())
        if path.is_dir():
            raise ParameterError(f"{path.name} is a folder.", "Give a file name.")
        return Order(path, form, gain_db, overwrite=path.exists()), self._describe(path, form, gain_db)

    def _describe(self, path: Path, form: FileFormat, gain_db: float) -> str:
        work = self._work
        parts = [f"{form.name}, {work.rate / 1000:g} kHz."]
        bits, source_bits = form.bits, work.recording.format.bits
        if bits and (gain_db or source_bits is None or source_bits > bits):
            parts.append("Dithered.")
        if path.exists() and replaces_source(work, path):
            parts.append(f"This replaces the source in one step; the old file is kept as {name_for_kept(path).name}.")
        elif path.exists():
            parts.append(f"{path.name} exists already and would be replaced.")
        if form.is_fixed_point and amplitude_to_db(work.peak) + gain_db > 0 and work.history.latest:
            parts.append("Peaks above 0 dBFS will be cut off again.")
        return " ".join(parts)


def _free_name(source: Path) -> Path:
    folder = source.parent if os.access(source.parent, os.W_OK) else Path.home()
    return _free(folder / f"{source.stem}-mended{source.suffix}")


def _free(path: Path) -> Path:
    number, free = 1, path
    while free.exists():
        number += 1
        free = path.with_stem(f"{path.stem}-{number}")
    return free
