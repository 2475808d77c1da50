"""The settings of a step or a mend, one field for each, with what they are called and their units."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QSizePolicy, QWidget

from umbrick.core.mend.parameters import Parameter
from umbrick.ui.own_keys import keep_keys
from umbrick.ui.panels.typed_field import TypedField

_LABELS = {"q": "Sharpness", "over_s": "Averaged over", "slope_db": "Slope"}
_UNITS = {"slope_db": "dB an octave"}


class SettingFields(QWidget):
    """Fields for parameters; each value is meant as soon as it is typed or chosen."""

    typed = Signal(str, str)
    """The name of a parameter, and what was typed or chosen for it."""
    left = Signal()
    """The person has done with typing: the keyboard is free."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setColumnStretch(1, 1)
        self._grid.setVerticalSpacing(4)
        self._shown: tuple[Parameter, ...] = ()
        self.fields: dict[str, QComboBox | TypedField] = {}

    def show_settings(self, parameters: tuple[Parameter, ...], settings: Mapping[str, Any]) -> None:
        """Show parameters with their values."""
        if parameters != self._shown:
            self._lay_out(parameters)
        for parameter in parameters:
            field, value = self.fields[parameter.name], settings[parameter.name]
            if isinstance(field, QComboBox):
                field.setCurrentIndex(field.findData(str(value)))
            else:
                field.show_value(in_field(parameter, value))

    def focus_first(self) -> None:
        """Have the keyboard type into the first field."""
        if self._shown:
            self.fields[self._shown[0].name].setFocus()

    def refuse(self, name: str) -> None:
        """What was typed for a parameter makes no sense: have it typed again."""
        field = self.fields[name]
        if isinstance(field, TypedField):
            field.refuse()

    def _lay_out(self, parameters: tuple[Parameter, ...]) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        self.fields = {}
        for row, parameter in enumerate(parameters):
            name = _LABELS.get(parameter.name, parameter.label)
            label = QLabel(name)
            label.setToolTip(parameter.summary)
            field = self._choice(parameter) if parameter.kind == "choice" else self._line(parameter, name)
            field.setAccessibleName(name)
            field.setToolTip(parameter.summary)
            field.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            self.fields[parameter.name] = field
            self._grid.addWidget(label, row, 0)
            self._grid.addWidget(field, row, 1)
        self._shown = parameters

    def _choice(self, parameter: Parameter) -> QComboBox:
        box = QComboBox()
        unit = f" {_UNITS[parameter.name]}" if parameter.name in _UNITS else ""
        for choice in parameter.choices:
            box.addItem(f"{choice.replace('_', ' ')}{unit}", choice)
        box.activated.connect(lambda index: self.typed.emit(parameter.name, box.itemData(index)))
        keep_keys(box)
        return box

    def _line(self, parameter: Parameter, name: str) -> TypedField:
        field = TypedField(name)
        field.typed.connect(lambda text: self.typed.emit(parameter.name, text))
        field.left.connect(self.left)
        return field


def in_field(parameter: Parameter, value: Any) -> str:
    """Return a value as a field shows it, with its unit."""
    if isinstance(value, str):
        return value
    return f"{value:g} {parameter.unit}".strip().replace("-", "−")
