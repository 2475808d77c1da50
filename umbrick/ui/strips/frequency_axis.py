"""The frequencies beside a spectrogram."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from umbrick.core.view.frequency_scale import FrequencyScale
from umbrick.ui import theme as themes

AXIS_WIDTH = 40
"""So far from the right edge the frequencies can be taken hold of."""


def draw_frequencies(painter: QPainter, lanes: Sequence[QRectF], scale: FrequencyScale, theme: themes.Theme) -> None:
    """Draw marks and numbers at the right edge of each channel's lane, and a line between the lanes."""
    painter.setFont(themes.font(10))
    for number, lane in enumerate(lanes):
        for tick in scale.ticks(lane.height()):
            y = round(lane.bottom() - tick.at * lane.height()) + 0.5
            painter.setPen(QPen(theme.color("rule"), 1))
            painter.drawLine(QPointF(lane.right() - 6, y), QPointF(lane.right(), y))
            painter.fillRect(QRectF(lane.right() - 34, y - 6.5, 26, 13), theme.color("paper", 190))
            painter.setPen(theme.color("faint"))
            painter.drawText(
                QRectF(lane.right() - 40, y - 7, 30, 14),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                tick.text,
            )
        if number:
            painter.setPen(QPen(theme.color("rule"), 1))
            painter.drawLine(QPointF(lane.left(), lane.top() + 0.5), QPointF(lane.right(), lane.top() + 0.5))
