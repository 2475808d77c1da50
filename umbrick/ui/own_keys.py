"""Letting a widget that has the keyboard keep the keys it works with, though commands use them elsewhere."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QWidget

MOVING = frozenset(
    {
        Qt.Key.Key_Left,
        Qt.Key.Key_Right,
        Qt.Key.Key_Up,
        Qt.Key.Key_Down,
        Qt.Key.Key_Home,
        Qt.Key.Key_End,
        Qt.Key.Key_PageUp,
        Qt.Key.Key_PageDown,
    }
)
"""The keys that move within a list or a slider."""


class _Keeper(QObject):
    def __init__(self, widget: QWidget, keys: frozenset[Qt.Key]) -> None:
        super().__init__(widget)
        self._keys = keys
        widget.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and event.key() in self._keys:
            event.accept()
            return True
        return False


def keep_keys(widget: QWidget, keys: frozenset[Qt.Key] = MOVING) -> None:
    """Have these keys go to the widget while it has the keyboard, instead of to the commands they belong to."""
    _Keeper(widget, keys)
