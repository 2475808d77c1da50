"""Fades by hand: the corners of the selection, or of the recording's ends, are dragged inward."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QMouseEvent, QPainter, QPen, QPolygonF

from umbrick.core.mend.levelling.fade import fade_gain
from umbrick.core.mend.place import Place
from umbrick.core.units import format_length
from umbrick.ui import theme as themes
from umbrick.ui.hand.handwork import Handwork
from umbrick.ui.strips.polyline import polyline
from umbrick.ui.strips.strip import Strip
from umbrick.ui.strips.tool import Tool
from umbrick.work.work import Work

_SIZE = 11
_GRIP = 3
_LEAST_PIXELS = 40
"""A selection narrower than this has no corners to take hold of: its edges are more important."""


class FadeCorners(Tool):
    """A corner that is dragged shows the fade it will make; letting go makes it."""

    def __init__(self, strip: Strip, handwork: Handwork) -> None:
        super().__init__(strip)
        self._handwork = handwork
        self._held: str | None = None
        self._at = 0.0

    def draw(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        """Draw the corners, and the fade that is being dragged."""
        span = self._span(work)
        if span is None:
            return
        color = self.strip.theme.color("ink")
        for direction, corner in self._corners(work, rect).items():
            points = (corner.topLeft(), corner.topRight(), corner.bottomLeft())
            if direction == "out":
                points = (corner.topRight(), corner.topLeft(), corner.bottomRight())
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(color, 1))
            painter.setBrush(self.strip.theme.color("selection"))
            painter.drawPolygon(QPolygonF(points))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        if self._held is not None:
            self._draw_fade(painter, work, rect, self._place(work, self._held))

    def _draw_fade(self, painter: QPainter, work: Work, rect: QRectF, place: Place) -> None:
        left, right = self.strip.x_of(place.start), self.strip.x_of(place.stop)
        gain = fade_gain(64, self._handwork.fade_shape)[:, 0]
        if self._held == "out":
            gain = gain[::-1]
        x = np.linspace(left, right, 64)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self.strip.theme.color("ink"), 1))
        painter.drawPolyline(polyline(x, rect.bottom() - gain * rect.height()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setFont(themes.font(11, QFont.Weight.DemiBold))
        text = f"fade {self._held} {format_length(place.stop - place.start, work.rate)}"
        box = QRectF(min(max(4.0, (left + right) / 2 - 70), self.strip.width() - 144), rect.top() + 18, 140, 16)
        painter.fillRect(box, self.strip.theme.color("paper", 210))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of a corner."""
        work = self.work
        if work is None or event.button() != Qt.MouseButton.LeftButton:
            return False
        direction = self._corner_at(work, event.position())
        if direction is None:
            return False
        self._held, self._at = direction, self.strip.frame_at(event.position().x())
        return True

    def move(self, event: QMouseEvent) -> None:
        """Drag the corner."""
        self._at = self.strip.frame_at(event.position().x())
        self.strip.update()

    def release(self, event: QMouseEvent) -> None:
        """Make the fade."""
        held, self._held = self._held, None
        if self.work is not None and held is not None:
            place = self._place(self.work, held)
            if place.stop - place.start > 1:
                self._handwork.fade(held, place)
        self.strip.update()

    def shape_at(self, position: QPointF) -> Qt.CursorShape | None:
        """Show that a corner can be dragged."""
        held = self.work is not None and self._corner_at(self.work, position)
        return Qt.CursorShape.PointingHandCursor if held else None

    def tip_at(self, position: QPointF) -> str:
        """Say what the corner does."""
        direction = self._corner_at(self.work, position) if self.work else None
        return f"Drag inward to fade {direction}" if direction else ""

    def _span(self, work: Work) -> tuple[int, int] | None:
        return work.selection.span if work.selection else ((0, work.frames) if work.frames else None)

    def _corners(self, work: Work, rect: QRectF) -> dict[str, QRectF]:
        span = self._span(work)
        if span is None:
            return {}
        left, right = (float(self.strip.x_of(frame)) for frame in span)
        if right - left < _LEAST_PIXELS:
            return {}
        corners = {
            "in": QRectF(left, rect.top(), _SIZE, _SIZE),
            "out": QRectF(right - _SIZE, rect.top(), _SIZE, _SIZE),
        }
        return {name: corner for name, corner in corners.items() if rect.intersects(corner)}

    def _corner_at(self, work: Work, position: QPointF) -> str | None:
        for name, corner in self._corners(work, self.strip.content_rect()).items():
            # Not right at the selection's edge, which is dragged as an edge.
            grip = corner.adjusted(_GRIP if name == "in" else 0, 0, -_GRIP if name == "out" else 0, _GRIP)
            if work.selection is None:
                grip = corner
            if grip.contains(position):
                return name
        return None

    def _place(self, work: Work, direction: str) -> Place:
        start, stop = self._span(work) or (0, 0)
        at = min(max(start, round(self._at)), stop)
        span = (start, at) if direction == "in" else (at, stop)
        return Place(*span, work.selected_channels)
