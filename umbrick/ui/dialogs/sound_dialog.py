"""Where sound goes, how soon it is heard, and how much is played around what a loop goes round."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QComboBox, QDialog, QFormLayout, QLabel, QLineEdit, QWidget

from umbrick.core.errors import ParameterError
from umbrick.core.units import parse_frames
from umbrick.playback.output import LATENCIES, SIMULATED, Choice
from umbrick.ui.dialogs.foot import Foot, sheet_layout

_BUFFERS = (0, 128, 256, 512, 1024, 2048, 4096)
_LONGEST_LEAD_MS = 60_000
_MILLISECONDS = 1000


class SoundDialog(QDialog):
    """Asks for the sound output and the leads of loops."""

    def __init__(
        self,
        choice: Choice,
        devices: list[str],
        leads_ms: tuple[int, int],
        leads_selection: bool,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Sound")
        self.setMinimumWidth(440)
        self.device = QComboBox()
        self.device.addItem("the system's own choice", "")
        for name in dict.fromkeys([*devices, SIMULATED]):
            self.device.addItem(name, name)
        if self.device.findData(choice.device) < 0:
            self.device.addItem(f"{choice.device} (not there)", choice.device)
        self.device.setCurrentIndex(self.device.findData(choice.device))
        self.latency = QComboBox()
        for name, text in zip(LATENCIES, ("safe from gaps", "low delay"), strict=True):
            self.latency.addItem(f"{name}: {text}", name)
        self.latency.setCurrentIndex(self.latency.findData(choice.latency))
        self.buffer = QComboBox()
        for frames in _BUFFERS:
            self.buffer.addItem(f"{frames} samples" if frames else "device default", frames)
        self.buffer.setCurrentIndex(max(0, self.buffer.findData(choice.buffer_frames)))
        self.lead_in, self.lead_out = (QLineEdit(f"{value} ms") for value in leads_ms)
        self.around_selection = QCheckBox("also around a selection")
        self.around_selection.setChecked(leads_selection)
        form = QFormLayout()
        for name, widget in (
            ("Output", self.device), ("Latency", self.latency), ("Buffer", self.buffer),
            ("Lead-in of loops", self.lead_in), ("Lead-out of loops", self.lead_out), ("", self.around_selection),
        ):  # fmt: skip
            widget.setAccessibleName(name or "Leads also around a selection")
            form.addRow(name, widget)
        self.note = QLabel()
        self.note.setProperty("role", "note")
        self.note.setWordWrap(True)
        foot = Foot(self, "Use these")
        self.accept_button = foot.accept
        layout = sheet_layout(self)
        layout.addLayout(form)
        layout.addWidget(self.note)
        layout.addLayout(foot)
        for field in (self.lead_in, self.lead_out):
            field.textChanged.connect(self._refresh)
        self._refresh()

    @property
    def choice(self) -> Choice:
        """The output that was chosen."""
        return Choice(self.device.currentData(), self.latency.currentData(), self.buffer.currentData())

    @property
    def leads_ms(self) -> tuple[int, int]:
        """The lead-in and lead-out as typed; ParameterError if they are no times."""
        before, after = (parse_frames(field.text(), _MILLISECONDS) for field in (self.lead_in, self.lead_out))
        if not (0 <= before <= _LONGEST_LEAD_MS and 0 <= after <= _LONGEST_LEAD_MS):
            raise ParameterError("A lead is up to a minute long.")
        return before, after

    def _refresh(self) -> None:
        try:
            self.leads_ms  # noqa: B018 - asks whether they make sense
            text, makes_sense = "Findings and seams are played with these leads. A missing device is replaced.", True
        except ParameterError as error:
            text, makes_sense = str(error), False
        self.note.setText(text)
        self.accept_button.setEnabled(makes_sense)
