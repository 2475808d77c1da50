"""The shipped line icons, drawn in a colour of the theme; and the glyphs of the families of findings."""

from __future__ import annotations

import math
from importlib.resources import files

from PySide6.QtCore import QByteArray, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPen, QPixmap, QPolygonF
from PySide6.QtSvg import QSvgRenderer

from umbrick.core.survey.finding import Family


def icon(name: str, color: QColor, checked_color: QColor | None = None, pixels: int = 18) -> QIcon:
    """Return a shipped icon by its file's name without ending."""
    result = QIcon(_pixmap(name, color, pixels))
    if checked_color is not None:
        result.addPixmap(_pixmap(name, checked_color, pixels), QIcon.Mode.Normal, QIcon.State.On)
    return result


def application_icon(pixels: int = 256) -> QPixmap:
    """Return the program's own icon."""
    svg = files("umbrick.ui.assets").joinpath("umbrick.svg").read_bytes()
    pixmap = QPixmap(pixels, pixels)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(svg)).render(painter)
    painter.end()
    return pixmap


def _pixmap(name: str, color: QColor, pixels: int) -> QPixmap:
    svg = files("umbrick.ui.assets.icons").joinpath(f"{name}.svg").read_text().replace("currentColor", color.name())
    pixmap = QPixmap(2 * pixels, 2 * pixels)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(svg.encode())).render(painter)
    painter.end()
    pixmap.setDevicePixelRatio(2)
    return pixmap


def draw_glyph(painter: QPainter, family: Family, center: QPointF, size: float, color: QColor, open_: bool) -> None:
    """Draw a family's glyph: filled for an open finding, in outline for one that is mended or kept."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(color, 1))
    painter.setBrush(color if open_ else Qt.BrushStyle.NoBrush)
    r = size / 2
    x, y = center.x(), center.y()
    match family:
        case Family.LEVELS:
            triangle = [QPointF(x, y - r * 0.85), QPointF(x + r, y + r * 0.75), QPointF(x - r, y + r * 0.75)]
            painter.drawPolygon(QPolygonF(triangle))
        case Family.IMPULSES:
            for k in range(3):
                angle = math.pi * (k / 3 + 1 / 6)
                tip = QPointF(math.sin(angle) * r, math.cos(angle) * r)
                painter.drawLine(center - tip, center + tip)
        case Family.GAPS:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(x - r, y - r * 0.65, 2 * r, r * 1.3))
        case Family.VOICE:
            drop = QPainterPath(QPointF(x, y - r))
            drop.cubicTo(x + r * 1.1, y + r * 0.1, x + r * 0.7, y + r, x, y + r)
            drop.cubicTo(x - r * 0.7, y + r, x - r * 1.1, y + r * 0.1, x, y - r)
            painter.drawPath(drop)
        case Family.BACKGROUND:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for k in (-1, 0, 1):
                wave = QPainterPath(QPointF(x - r, y + k * r * 0.6))
                wave.cubicTo(
                    x - r / 3, y + (k - 0.7) * r * 0.6, x + r / 3, y + (k + 0.7) * r * 0.6, x + r, y + k * r * 0.6
                )
                painter.drawPath(wave)
    painter.restore()
