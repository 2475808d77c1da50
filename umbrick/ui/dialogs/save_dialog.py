"""Saving: where, in which format, and at which level, with the peaks told before they could be lost."""

from __future__ import annotations

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
from umbrick.core.free_names import folder_beside, free_path
from umbrick.core.sound.conversion import channel_choices
from umbrick.core.sound.saving import format_for
from umbrick.core.units import amplitude_to_db, format_db, format_length, format_lowering, parse_db
from umbrick.ui.dialogs.foot import Foot, sheet_layout
from umbrick.ui.files.saving import Order
from umbrick.work.work import Work

_CHOICES = (("As the source", None), ("16 bit", "PCM_16"), ("24 bit", "PCM_24"), ("32 bit float", "FLOAT"))
_RATES = (16000, 22050, 32000, 44100, 48000, 88200, 96000, 192000)
_FLOAT_SUFFIXES = (".wav", ".rf64", ".w64", ".aif", ".aiff", ".caf")


class SaveDialog(QDialog):
    """Asks how to save. The usual answer is chosen already, so Return is enough."""

    def __init__(self, work: Work, pattern: str, only_selection: bool = False, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._work = work
        self._order: Order | None = None
        self._span = work.selection.span if only_selection and work.selection else None
        self.setWindowTitle("Save the selection" if only_selection else "Save a copy")
        self.setMinimumWidth(600)
        self._pattern = pattern
        self.pattern = QLineEdit(pattern)
        self.pattern.setAccessibleName("Name pattern")
        self.pattern.setToolTip("{name} stands for the recording's name; kept for the next time")
        self.pattern.textEdited.connect(self._name_by_pattern)
        self.path = QLineEdit(str(free_path(folder_beside(work.home) / _named(work.home, pattern))))
        self.path.setAccessibleName("File")
        browse = QPushButton("Choose…")
        browse.setAutoDefault(False)
        browse.clicked.connect(self._browse)
        self.subtype = QComboBox()
        self.subtype.setAccessibleName("Sample format")
        for text, subtype in _CHOICES:
            self.subtype.addItem(text, subtype)
        self.rate = QComboBox()
        self.rate.setAccessibleName("Rate")
        self.rate.addItem(f"{work.rate / 1000:g} kHz, as it is", None)
        for rate in _RATES:
            if rate != work.rate:
                self.rate.addItem(f"{rate / 1000:g} kHz", rate)
        self.channels = QComboBox()
        self.channels.setAccessibleName("Channels")
        for choice in channel_choices(work.channels):
            self.channels.addItem(choice.title, choice)
        self.levels = QButtonGroup(self)
        self.lowered = QRadioButton()
        self.as_is = QRadioButton("Leave the level; what passes full scale is cut off again")
        self.as_float = QRadioButton("Leave the level and save 32 bit float, which holds peaks above full scale")
        self.typed = QRadioButton("Change the level by")
        self.gain = QLineEdit("0 dB")
        self.gain.setAccessibleName("Level change")
        self.gain.setFixedWidth(90)
        self.gain.textEdited.connect(lambda _: self.typed.setChecked(True))
        for button in (self.lowered, self.as_float, self.as_is, self.typed):
            self.levels.addButton(button)
        self.facts = QLabel()
        self.facts.setWordWrap(True)
        self.note = QLabel()
        self.note.setProperty("role", "note")
        self.note.setWordWrap(True)
        foot = Foot(self, "Save")
        self.accept_button = foot.accept

        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.addWidget(QLabel("File"), 0, 0)
        grid.addWidget(self.path, 0, 1)
        grid.addWidget(browse, 0, 2)
        grid.addWidget(QLabel("Pattern"), 1, 0)
        grid.addWidget(self.pattern, 1, 1)
        grid.addWidget(QLabel("Format"), 2, 0)
        form_row = QHBoxLayout()
        for box in (self.subtype, self.rate, self.channels):
            form_row.addWidget(box)
        form_row.addStretch()
        grid.addLayout(form_row, 2, 1, 1, 2)
        typed_row = QHBoxLayout()
        typed_row.addWidget(self.typed)
        typed_row.addWidget(self.gain)
        typed_row.addStretch()
        level = QVBoxLayout()
        level.addWidget(self.facts)
        for button in (self.lowered, self.as_float, self.as_is):
            level.addWidget(button)
        level.addLayout(typed_row)
        grid.addWidget(QLabel("Level"), 3, 0, Qt.AlignmentFlag.AlignTop)
        grid.addLayout(level, 3, 1, 1, 2)
        layout = sheet_layout(self)
        layout.addLayout(grid)
        layout.addWidget(self.note)
        layout.addLayout(foot)

        self._offer_levels()
        self.as_float.toggled.connect(self._name_for_float)
        for signal in (
            self.path.textChanged,
            self.subtype.currentIndexChanged,
            self.rate.currentIndexChanged,
            self.channels.currentIndexChanged,
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
        passes = peak_db > 0 and _is_changed(work)
        for button in (self.lowered, self.as_float):
            button.setVisible(passes)
        if not passes and _is_changed(work) and not work.knows_peak:
            self.lowered.setVisible(True)
            self.facts.setText("The highest peak is not known yet: the course is still being worked out.")
            self.lowered.setText("Lower everything if peaks would pass full scale")
            is_fixed = work.recording.format.is_fixed_point
            (self.lowered if is_fixed else self.as_is).setChecked(True)
            return
        if not passes:
            self.facts.setText(f"The highest peak is {format_db(peak_db)}; it fits.")
            self.as_is.setText("Leave the level")
            self.as_is.setChecked(True)
            return
        self.facts.setText(f"Rebuilt peaks reach {format_db(peak_db)}: a fixed-point file ends at 0 dBFS.")
        lower_by = format_lowering(work.fitting_gain_db)
        self.lowered.setText(f"Lower everything by {lower_by}, so that nothing is cut off")
        is_float = not work.recording.format.is_fixed_point
        (self.as_is if is_float else self.lowered).setChecked(True)
        if is_float:
            self.as_is.setText("Leave the level; the float file holds it")

    def _name_by_pattern(self, pattern: str) -> None:
        if "{name}" in pattern and not set(pattern) & set("/\0"):
            self._pattern = pattern
            self.path.setText(str(free_path(Path(self.path.text()).with_name(_named(self._work.home, pattern)))))

    @property
    def chosen_pattern(self) -> str:
        """The name pattern as it was left."""
        return self._pattern

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
            self.path.setText(str(free_path(path.with_suffix(".wav"))))
        elif not chosen and path.suffix == ".wav" and self._work.home.suffix != ".wav":
            self.path.setText(str(free_path(path.with_suffix(self._work.home.suffix))))

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
        fits = self.lowered.isChecked() and form.is_fixed_point
        if self.lowered.isChecked():
            gain_db = work.fitting_gain_db if form.is_fixed_point else 0.0
        elif self.typed.isChecked():
            gain_db = parse_db(self.gain.text())
        if path.is_dir():
            raise ParameterError(f"{path.name} is a folder.", "Give a file name.")
        if replaces_source(work, path):
            raise ParameterError(
                f"{path.name} is the recording's own file.", "Put back in place (F2) keeps the old one."
            )
        layout = self.channels.currentData() if self.channels.currentIndex() else None
        rate = self.rate.currentData()
        order = Order(path, form, gain_db, path.exists(), rate, layout, self._span, fits)
        return order, self._describe(order)

    def _describe(self, order: Order) -> str:
        work, form = self._work, order.form
        parts = [f"{form.name}, {(order.rate or work.rate) / 1000:g} kHz."]
        if order.span:
            parts.append(f"The selection: {format_length(order.span[1] - order.span[0], work.rate)}.")
        bits, source_bits = form.bits, work.recording.format.bits
        changed = order.gain_db or order.rate or order.layout
        if bits and (changed or source_bits is None or source_bits > bits):
            parts.append("Dithered.")
        if form.has_tracks and work.recording.track is not None and not order.span:
            parts.append("The picture and every other track stay as they are.")
            if form.is_lossy:
                parts.append("The sound is encoded anew once.")
            if debt := work.history.timing_debt:
                how = "longer" if debt > 0 else "shorter"
                parts.append(
                    f"The sound is {format_length(abs(debt), work.rate)} {how} than it was; the picture is not."
                )
        if order.path.exists():
            parts.append(f"{order.path.name} exists already and would be replaced.")
        if form.is_fixed_point and amplitude_to_db(work.peak) + order.gain_db > 0 and _is_changed(work):
            parts.append("Peaks above 0 dBFS will be cut off again.")
        return " ".join(parts)


def replaces_source(work: Work, path: Path) -> bool:
    """Return whether a path is the recording's own file, or the one its old sound is kept in."""
    return any(path.exists() and own.exists() and path.samefile(own) for own in (work.home, work.recording.path))


def _is_changed(work: Work) -> bool:
    return bool(work.history.mend_count or work.history.course)


def _named(home: Path, pattern: str) -> str:
    return f"{pattern.replace('{name}', home.stem)}{home.suffix}"
