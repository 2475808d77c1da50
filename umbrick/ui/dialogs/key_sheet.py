"""The sheet of keys, made from the table of commands."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QDialog, QGridLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from umbrick.ui.commands.command import Command

_POINTER = (
    ("Wheel", "scroll the strip under the pointer"),
    ("Ctrl+Wheel", "zoom about the pointer"),
    ("Drag", "select; at an edge of the selection, move that edge"),
    ("Shift+Wheel", "magnify levels (Passage)"),
    ("Shift+Click", "extend the selection"),
    ("Right click", "what can be done there"),
    ("Right drag", "scrub: the sound follows the hand"),
    ("Drag in a ruler", "sideways moves, up and down zooms"),
    ("Drag in the Whole", "move the Passage; at its edges, zoom it"),
)


class KeySheet(QDialog):
    """Every key and pointer gesture, menu by menu, in two columns."""

    def __init__(self, commands: Iterable[Command], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys")
        self.resize(860, 720)
        groups: dict[str, list[tuple[str, str]]] = {}
        for command in commands:
            if command.keys:
                key = QKeySequence(command.keys[0]).toString(QKeySequence.SequenceFormat.NativeText)
                groups.setdefault(command.menu.replace("&", ""), []).append((key, command.text.rstrip("…")))
        groups["Pointer"] = list(_POINTER)
        columns: list[list[tuple[str, list[tuple[str, str]]]]] = [[], []]
        heights = [0, 0]
        for title, rows in groups.items():
            shorter = heights.index(min(heights))
            columns[shorter].append((title, rows))
            heights[shorter] += len(rows) + 2
        page = QWidget()
        sides = QGridLayout(page)
        sides.setHorizontalSpacing(40)
        for side, column in enumerate(columns):
            sides.addLayout(_column(column), 0, side, Qt.AlignmentFlag.AlignTop)
        scroll = QScrollArea(widgetResizable=True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setWidget(page)
        QVBoxLayout(self).addWidget(scroll)


def _column(groups: list[tuple[str, list[tuple[str, str]]]]) -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(16)
    grid.setVerticalSpacing(4)
    row = 0
    for title, rows in groups:
        heading = QLabel(title)
        heading.setProperty("role", "heading")
        grid.addWidget(heading, row, 0, 1, 2)
        row += 1
        for keys, text in rows:
            key_label = QLabel(keys)
            key_label.setStyleSheet("font-weight: 600;")
            grid.addWidget(key_label, row, 0)
            grid.addWidget(QLabel(text), row, 1)
            row += 1
    return grid
