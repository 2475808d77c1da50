"""Finding a command by a word of it: what it is called, what it does, its key, and why it cannot run now."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from umbrick.ui.commands.command import Command

_STEPS = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 8, Qt.Key.Key_PageUp: -8}


class CommandFinder(QDialog):
    """Typing sifts the commands; Enter does the chosen one. ``chosen`` is that command's name, or empty."""

    def __init__(self, commands: Sequence[Command], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find a command")
        self.resize(620, 460)
        self.chosen = ""
        self._commands = commands
        self.words = QLineEdit(placeholderText="A word of what you want to do: fade, marker, zoom…")
        self.words.setAccessibleName("Words of the command")
        self.words.textChanged.connect(self._sift)
        self.words.installEventFilter(self)
        self.list = QListWidget()
        self.list.setAccessibleName("Commands")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setWordWrap(True)
        self.list.itemClicked.connect(self._choose)
        layout = QVBoxLayout(self)
        layout.addWidget(self.words)
        layout.addWidget(self.list)
        self._sift("")

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let the arrow keys move in the list while one types, and Enter choose."""
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            if (step := _STEPS.get(Qt.Key(event.key()))) is not None:
                row = min(max(0, self.list.currentRow() + step), self.list.count() - 1)
                self.list.setCurrentRow(row)
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                if (item := self.list.currentItem()) is not None:
                    self._choose(item)
                return True
        return super().eventFilter(watched, event)

    def _sift(self, text: str) -> None:
        words = text.lower().split()
        self.list.clear()
        # What is called so comes before what only does something of the kind.
        for named in (True, False):
            for command in self._commands:
                title = command.shown_text.lower()
                everything = f"{title} {command.hint} {command.menu}".lower()
                if all(word in everything for word in words) and all(word in title for word in words) is named:
                    self._add(command)
        if not self.list.count():
            nothing = QListWidgetItem("No command has these words.")
            nothing.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(nothing)
        self.list.setCurrentRow(0)

    def _add(self, command: Command) -> None:
        keys = QKeySequence(command.keys[0]).toString(QKeySequence.SequenceFormat.NativeText) if command.keys else ""
        reason = command.reason_against()
        title = command.shown_text.rstrip("…") + (f"   {keys}" if keys else "")
        item = QListWidgetItem(f"{title}\n{reason or command.hint}")
        item.setData(Qt.ItemDataRole.UserRole, command.name)
        if reason:
            item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEnabled)
        self.list.addItem(item)

    def _choose(self, item: QListWidgetItem) -> None:
        if item.flags() & Qt.ItemFlag.ItemIsEnabled:
            self.chosen = item.data(Qt.ItemDataRole.UserRole)
            self.accept()
