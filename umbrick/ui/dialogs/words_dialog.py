"""Asking for words: a name and a note for a marker, or a note on a finding."""

from __future__ import annotations

from PySide6.QtWidgets import (
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)


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
        cancel = QPushButton("Cancel")
        cancel.setAutoDefault(False)
        cancel.clicked.connect(self.reject)
        self.accept_button = QPushButton("Keep")
        self.accept_button.setProperty("accent", True)
        self.accept_button.setDefault(True)
        self.accept_button.clicked.connect(self.accept)
        buttons = QHBoxLayout()
        buttons.addStretch()
        buttons.addWidget(cancel)
        buttons.addWidget(self.accept_button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 16, 20, 16)
        layout.setSpacing(12)
        layout.addLayout(form)
        layout.addLayout(buttons)

    @property
    def words(self) -> tuple[str, str]:
        """The name and the note as typed."""
        return self.name.text().strip(), self.note.toPlainText().strip()
