"""Asking for words: a name and a note for a marker, or a note on a finding."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QFormLayout, QLineEdit, QPlainTextEdit, QWidget

from umbrick.ui.dialogs.foot import Foot, sheet_layout


class WordsDialog(QDialog):
    """A line for the name, if one is wanted, and room for a note; Return in the name is enough."""

    def __init__(self, title: str, name: str | None, note: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(420)
        self.name = QLineEdit(name or "")
        self.name.setAccessibleName("Name")
        self.name.selectAll()
        self.note = QPlainTextEdit(note)
        self.note.setAccessibleName("Note")
        self.note.setTabChangesFocus(True)
        self.note.setFixedHeight(96)
        form = QFormLayout()
        if name is not None:
            form.addRow("Name", self.name)
        form.addRow("Note", self.note)
        foot = Foot(self, "Keep")
        self.accept_button = foot.accept
        layout = sheet_layout(self)
        layout.addLayout(form)
        layout.addLayout(foot)

    @property
    def words(self) -> tuple[str, str]:
        """The name and the note as typed."""
        return self.name.text().strip(), self.note.toPlainText().strip()
