"""Markers as drawn in the Passage: a line with a flag that carries the name; spans have a bar above their length."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPen

from umbrick.ui import theme as themes
from umbrick.ui.bench.marking import Placed
from umbrick.ui.theme import Theme

FLAG_HEIGHT = 14
_PADDING = 5
_WIDEST = 140
_GRIP = 4


def draw_flags(
    painter: QPainter, placed: list[Placed], chosen: str, rect: QRectF, theme: Theme, x_of: object
) -> list[tuple[QRectF, Placed]]:
    """Draw markers over a waveform, and return where each flag is, the topmost last."""
    font = themes.font(11)
    metrics = QFontMetricsF(font)
    painter.setFont(font)
    flags = []
    for marker in placed:
        left, right = x_of(marker.start), x_of(marker.stop)  # type: ignore[operator]
        if right < rect.left() or left > rect.right():
            continue
        is_chosen = marker.marker.id == chosen
        color = theme.color("ink" if is_chosen else "faint")
        painter.setPen(QPen(color, 1, Qt.PenStyle.SolidLine if is_chosen else Qt.PenStyle.DashLine))
        for x in {round(left), round(right)}:
            painter.drawLine(QPointF(x + 0.5, rect.top()), QPointF(x + 0.5, rect.bottom()))
        if marker.stop > marker.start:
            painter.fillRect(QRectF(left, rect.top(), right - left, 2), color)
        text = metrics.elidedText(marker.marker.name, Qt.TextElideMode.ElideRight, _WIDEST)
        if marker.marker.note:
            text += " ¶"
        flag = QRectF(
            max(left, rect.left()), rect.top() + 2, metrics.horizontalAdvance(text) + 2 * _PADDING, FLAG_HEIGHT
        )
        painter.fillRect(flag, color if is_chosen else theme.color("raised"))
        painter.setPen(QPen(color, 1))
        painter.drawRect(flag.adjusted(0.5, 0.5, -0.5, -0.5))
        painter.setPen(theme.color("raised" if is_chosen else "ink"))
        painter.drawText(flag, Qt.AlignmentFlag.AlignCenter, text)
        flags.append((flag, marker))
    return flags


def flag_at(flags: list[tuple[QRectF, Placed]], position: QPointF) -> Placed | None:
    """Return the marker whose flag is at a place."""
    for flag, marker in reversed(flags):
        if flag.adjusted(-_GRIP / 2, 0, _GRIP / 2, 0).contains(position):
            return marker
    return None
