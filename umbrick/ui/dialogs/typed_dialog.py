"""Asking for one or two typed values; what makes no sense is said before anything is done."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QLabel, QLineEdit, QWidget

from umbrick.core.errors import ParameterError
from umbrick.ui.dialogs.foot import Foot, sheet_layout

Check = Callable[[list[str]], str]
"""Returns what typed values mean, in words; ParameterError if they mean nothing."""


class TypedDialog(QDialog):
    """A line for each value, with a choice below if there is one to make.

    Parameters
    ----------
    title : str
    fields : list of (str, str)
        Names, and what is proposed.
    check : callable
        Tells what the values mean, or raises ParameterError.
    does : str
        What the button says.
    choices : list of (str, str), optional
        Values and how they are named; the first is proposed.
    """

    def __init__(
        self,
        title: str,
        fields: list[tuple[str, str]],
        check: Check,
        does: str,
        choices: list[tuple[str, str]] | None = None,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._check = check
        self.setWindowTitle(title)
        self.setMinimumWidth(400)
        self.fields = [QLineEdit(text) for _, text in fields]
        self.choice = QComboBox()
        form = QFormLayout()
        for (name, _), field in zip(fields, self.fields, strict=True):
            field.setAccessibleName(name)
            field.textChanged.connect(self._refresh)
            form.addRow(name, field)
        if choices:
            for value, name in choices:
                self.choice.addItem(name, value)
            self.choice.setAccessibleName("What to do")
            form.addRow("", self.choice)
        self.fields[0].selectAll()
        self.note = QLabel()
        self.note.setProperty("role", "note")
        self.note.setWordWrap(True)
        foot = Foot(self, does)
        self.accept_button = foot.accept
        layout = sheet_layout(self)
        layout.addLayout(form)
        layout.addWidget(self.note)
        layout.addLayout(foot)
        self._refresh()

    @property
    def values(self) -> list[str]:
        """What was typed."""
        return [field.text().strip() for field in self.fields]

    def _refresh(self) -> None:
        try:
            text, makes_sense = self._check(self.values), True
        except ParameterError as error:
            text, makes_sense = str(error), False
        self.note.setText(text)
        self.accept_button.setEnabled(makes_sense)
