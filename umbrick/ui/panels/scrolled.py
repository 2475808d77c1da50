"""A page that scrolls where there is too little room, and looks like any other part of its panel."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget


def scrolled() -> tuple[QScrollArea, QVBoxLayout]:
    """Return an area that scrolls up and down, and the layout of the page in it."""
    page = QWidget()
    inner = QVBoxLayout(page)
    inner.setContentsMargins(0, 0, 2, 0)
    area = QScrollArea(widgetResizable=True)
    area.setProperty("role", "plain")
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setWidget(page)
    return area, inner
