"""A field for a typed value: Return and Tab take it, Esc leaves it; then the keys belong to the commands again."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent
from PySide6.QtWidgets import QLineEdit

_OWN_KEYS = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape)


class TypedField(QLineEdit):
    """Shows a value until a person types another."""

    typed = Signal(str)
    """A value was typed and is meant."""
    left = Signal()
    """The person has done with typing: the keyboard is free."""

    def __init__(self, name: str, text: str = "") -> None:
        super().__init__(text)
        self._shown = text
        self.setAccessibleName(name)
        self.setMinimumWidth(60)
        self.installEventFilter(self)

    def show_value(self, text: str) -> None:
        """Show a value, unless another is just being typed."""
        self._shown = text
        if not (self.hasFocus() and self.isModified()):
            self.setText(text)

    def refuse(self) -> None:
        """What was typed makes no sense: have it typed again."""
        self.setFocus(Qt.FocusReason.OtherFocusReason)
        self.selectAll()
        self.setModified(True)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Keep Return and Esc from the commands they belong to elsewhere.

        A filter and no ``event`` of its own: a fault in what is called from within that would not be told, but crash.
        """
        if (
            event.type() == QEvent.Type.ShortcutOverride
            and isinstance(event, QKeyEvent)
            and event.key() in _OWN_KEYS
            and event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)
        ):
            event.accept()
            return True
        return False

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Take the value, or leave it."""
        if event.key() == Qt.Key.Key_Escape:
            self.setText(self._shown)
            self.left.emit()
        elif event.key() in _OWN_KEYS:
            self._take()
            if not self.isModified():
                self.left.emit()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Going on to another field takes the value too."""
        if self.isModified() and event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason):
            self._take()
        super().focusOutEvent(event)

    def _take(self) -> None:
        self.setModified(False)
        self.typed.emit(self.text())
