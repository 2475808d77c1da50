"""Buttons for commands: enabled, ticked and explained as the commands are."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton

from umbrick.ui.commands.command import Actions
from umbrick.ui.strips.strip import TITLE_HEIGHT


class Buttons:
    """Makes them."""

    def __init__(self, actions: Actions) -> None:
        self._actions = actions

    def button(self, name: str, text: str, accent: bool = False) -> QPushButton:
        """Return a button for the command of a name."""
        action = self._actions.actions[name]
        button = QPushButton(text)
        button.setProperty("accent", accent)
        button.setAutoDefault(False)
        button.clicked.connect(action.trigger)

        def follow() -> None:
            button.setEnabled(action.isEnabled())
            button.setToolTip(action.toolTip())

        action.changed.connect(follow)
        follow()
        return button

    def named(self, **texts: str) -> dict[str, QPushButton]:
        """Return buttons with texts, by the names of their commands."""
        return {name: self.button(name, text) for name, text in texts.items()}

    def small(self, name: str, text: str) -> QPushButton:
        """Return a small one, as stands in the title of a strip."""
        button = self.button(name, text)
        button.setProperty("role", "plain")
        button.setFixedHeight(TITLE_HEIGHT - 1)
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        action = self._actions.actions[name]
        if action.isCheckable():
            button.setCheckable(True)
            action.toggled.connect(button.setChecked)
            button.clicked.connect(lambda: button.setChecked(action.isChecked()))
        return button
