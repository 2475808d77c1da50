"""Changing the settings of a mend: one field a parameter, each with its range and its default."""

from __future__ import annotations

from types import MappingProxyType
from typing import Any

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QGridLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QWidget,
)

from umbrick.core.errors import ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.ui.dialogs.foot import Foot, sheet_layout


class SettingsDialog(QDialog):
    """Asks for a method's settings; what makes no sense is said before anything is computed.

    ``usual`` are those that one button brings back, the method's own by default.
    """

    def __init__(
        self,
        method: Method,
        settings: Parameters,
        title: str,
        parent: QWidget | None = None,
        usual: Parameters = MappingProxyType({}),
    ) -> None:
        super().__init__(parent)
        self._method = method
        self._usual = method.checked(usual)
        self.settings = dict(settings)
        self.setWindowTitle(title)
        self.setMinimumWidth(460)
        self.fields: dict[str, QComboBox | QLineEdit] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        for row, parameter in enumerate(method.parameters):
            label = QLabel(parameter.name.replace("_", " "))
            label.setToolTip(parameter.summary)
            field = self._field(parameter, settings.get(parameter.name, parameter.default))
            hint = QLabel(_range_of(parameter))
            hint.setProperty("role", "faint")
            grid.addWidget(label, row, 0)
            grid.addWidget(field, row, 1)
            grid.addWidget(hint, row, 2)
        self.note = QLabel(method.summary)
        self.note.setProperty("role", "note")
        self.note.setWordWrap(True)
        self.reset_button = QPushButton("As usual")
        self.reset_button.setToolTip("The settings that this mend has by itself")
        self.reset_button.clicked.connect(self._reset)
        foot = Foot(self, "Compute again", self.reset_button)
        self.accept_button = foot.accept
        layout = sheet_layout(self)
        layout.addLayout(grid)
        layout.addWidget(self.note)
        layout.addLayout(foot)
        self._refresh()

    def _field(self, parameter: Parameter, value: Any) -> QComboBox | QLineEdit:
        if parameter.kind == "choice":
            box = QComboBox()
            box.addItems(parameter.choices)
            box.setCurrentText(str(value))
            box.currentTextChanged.connect(self._refresh)
            field: QComboBox | QLineEdit = box
        else:
            line = QLineEdit(_typed(value))
            line.textChanged.connect(self._refresh)
            field = line
        field.setAccessibleName(parameter.name.replace("_", " "))
        field.setToolTip(parameter.summary)
        self.fields[parameter.name] = field
        return field

    def _reset(self) -> None:
        for name, value in self._usual.items():
            field = self.fields[name]
            if isinstance(field, QComboBox):
                field.setCurrentText(str(value))
            else:
                field.setText(_typed(value))

    def _refresh(self) -> None:
        if len(self.fields) < len(self._method.parameters):
            return  # still being put together
        texts = {
            name: field.currentText() if isinstance(field, QComboBox) else field.text()
            for name, field in self.fields.items()
        }
        try:
            self.settings = self._method.checked(texts)
            problem = ""
        except ParameterError as error:
            problem = str(error)
        self.accept_button.setEnabled(not problem)
        self.note.setText(problem or self._method.summary)


def _typed(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def _range_of(parameter: Parameter) -> str:
    if parameter.kind == "choice":
        return ""
    limits = [f"{limit:g}" for limit in (parameter.low, parameter.high) if limit is not None]
    text = f"{' to '.join(limits)} {parameter.unit}".strip()
    return f"{text}, or {' or '.join(parameter.choices)}" if parameter.choices else text
