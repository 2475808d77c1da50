"""The foot that dialogs share: Cancel, and the button that does what the dialog is for."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QVBoxLayout


class Foot(QHBoxLayout):
    """Return takes ``accept``, Esc cancels; ``left`` are further buttons, on the other side."""

    def __init__(self, dialog: QDialog, text: str, *left: QPushButton) -> None:
        super().__init__()
        self.accept = QPushButton(text)
        self.accept.setProperty("accent", True)
        self.accept.setDefault(True)
        self.accept.clicked.connect(dialog.accept)
        cancel = QPushButton("Cancel")
        cancel.clicked.connect(dialog.reject)
        for button in (*left, cancel):
            button.setAutoDefault(False)
        for button in left:
            self.addWidget(button)
        self.addStretch()
        self.addWidget(cancel)
        self.addWidget(self.accept)


def sheet_layout(dialog: QDialog) -> QVBoxLayout:
    """Give a dialog its layout, with the margins that all have."""
    layout = QVBoxLayout(dialog)
    layout.setContentsMargins(20, 16, 20, 16)
    layout.setSpacing(12)
    return layout
