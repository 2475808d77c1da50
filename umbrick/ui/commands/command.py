"""What a command is, and turning the table of them into menus and actions."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenuBar, QWidget

Reason = Callable[[], str]
"""Returns why a command cannot run now, or an empty string if it can."""


def always() -> str:
    """No reason against it."""
    return ""


@dataclass(frozen=True)
class Command:
    """One thing a person can do. Menus, keys, tooltips and the shortcut sheet are all made from this.

    ``keys`` lists shortcuts, the first of which is shown; ``checked`` makes it a switch.
    """

    name: str
    menu: str
    text: str
    hint: str
    run: Callable[[], None]
    keys: tuple[str, ...] = ()
    reason_against: Reason = always
    checked: Callable[[], bool] | None = None
    icon: str = ""
    separated: bool = False
    now: Callable[[], str] | None = None
    """What more its text says now: what would be taken back."""

    @property
    def shown_text(self) -> str:
        """What it is called now."""
        more = self.now() if self.now is not None else ""
        return f"{self.text}: {more}" if more else self.text


class Actions:
    """The commands' Qt actions, kept up to date with what is possible."""

    def __init__(self, commands: Sequence[Command], parent: QWidget) -> None:
        self.commands = {command.name: command for command in commands}
        self.actions: dict[str, QAction] = {}
        for command in commands:
            action = QAction(command.text, parent)
            action.setObjectName(command.name)
            action.setShortcuts([QKeySequence(key) for key in command.keys])
            action.setCheckable(command.checked is not None)
            action.triggered.connect(lambda _=False, command=command: self._run(command))
            parent.addAction(action)
            self.actions[command.name] = action
        self.refresh()

    def fill(self, bar: QMenuBar) -> None:
        """Make the menus, in the order of the table."""
        menus = {}
        for command in self.commands.values():
            if command.menu not in menus:
                menus[command.menu] = bar.addMenu(command.menu)
                menus[command.menu].setToolTipsVisible(True)
            if command.separated:
                menus[command.menu].addSeparator()
            menus[command.menu].addAction(self.actions[command.name])

    def refresh(self) -> None:
        """Enable what can be done now; what cannot says why in its tooltip."""
        for name, command in self.commands.items():
            action = self.actions[name]
            reason = command.reason_against()
            action.setEnabled(not reason)
            if command.now is not None:
                action.setText(command.shown_text)
            if command.checked is not None:
                action.setChecked(command.checked())
            keys = f"  ({', '.join(command.keys)})" if command.keys else ""
            action.setToolTip(f"{reason or command.hint}{keys}")
            action.setStatusTip(reason or command.hint)

    def why_not(self, keys: QKeySequence) -> str:
        """Return why the command of some keys cannot run now; empty if it can, or if there is none."""
        for command in self.commands.values():
            if any(QKeySequence(key) == keys for key in command.keys):
                return command.reason_against()
        return ""

    def _run(self, command: Command) -> None:
        if not command.reason_against():
            command.run()
        self.refresh()
