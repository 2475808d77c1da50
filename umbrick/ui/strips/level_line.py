"""The level curve over a strip: a line in dB with nodes; inside a selection it moves as a step with ramps."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QMouseEvent, QPainter, QPen

from umbrick.core.units import format_db
from umbrick.ui import theme as themes
from umbrick.ui.hand.levelling import Levelling
from umbrick.ui.strips.polyline import polyline
from umbrick.ui.strips.strip import Strip
from umbrick.ui.strips.tool import Tool
from umbrick.work.work import Work

_TOP_DB, _BOTTOM_DB = 20.0, -40.0
_GRIP = 6
_RADIUS = 3.5
_STEP_DB = 0.1


class LevelLine(Tool):
    """Draws the curve and changes it with the pointer."""

    def __init__(self, strip: Strip, levelling: Levelling) -> None:
        super().__init__(strip)
        self._levelling = levelling
        self._held: tuple[str, int, float] | None = None
        """What is held (``node``, ``copy`` or ``step``), its frame, and the height it was taken at."""
        levelling.changed.connect(strip.update)

    def y_of(self, gain_db: float, rect: QRectF) -> float:
        """Return the height of a gain."""
        share = (_TOP_DB - min(max(gain_db, _BOTTOM_DB), _TOP_DB)) / (_TOP_DB - _BOTTOM_DB)
        return rect.top() + share * rect.height()

    def gain_at(self, y: float, rect: QRectF) -> float:
        """Return the gain at a height, in tenths of a dB."""
        share = min(max(0.0, (y - rect.top()) / rect.height()), 1.0)
        return float(round((_TOP_DB - share * (_TOP_DB - _BOTTOM_DB)) / _STEP_DB) * _STEP_DB)

    def draw(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        """Draw the line, its nodes and the level where it is held."""
        if not self._levelling.is_shown:
            return
        theme, curve = self.strip.theme, self._levelling.curve(work)
        nodes = [(float(self.strip.x_of(n.frame)), self.y_of(n.gain_db, rect), n) for n in curve.nodes]
        first = float(curve.gain_db_at(0)) if curve.nodes else 0.0
        last = float(curve.gain_db_at(work.frames)) if curve.nodes else 0.0
        x = np.array([rect.left() - 1, *(x for x, _, _ in nodes), rect.right() + 1])
        y = np.array([self.y_of(first, rect), *(y for _, y, _ in nodes), self.y_of(last, rect)])
        if nodes and nodes[0][0] > rect.left():
            y[0] = self.y_of(first, rect)
        zero = round(self.y_of(0.0, rect)) + 0.5
        painter.setPen(QPen(theme.color("faint", 120), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(rect.left(), zero), QPointF(rect.right(), zero))
        painter.save()
        painter.setClipRect(rect)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        order = np.argsort(x, kind="stable")
        painter.setPen(QPen(theme.color("ink"), 1))
        for lift in (0.0, 0.7):
            painter.drawPolyline(polyline(x[order], y[order] + lift))
        for at_x, at_y, node in nodes:
            is_chosen = node.frame == self._levelling.chosen
            painter.setBrush(theme.color("ink" if is_chosen else "paper"))
            painter.drawEllipse(QPointF(at_x, at_y), _RADIUS, _RADIUS)
        painter.restore()
        painter.setFont(themes.font(10))
        painter.setPen(theme.color("faint"))
        label = QRectF(rect.left() + 8, zero - 15, 92, 13)
        painter.fillRect(label, theme.color("paper", 210))
        painter.drawText(label, Qt.AlignmentFlag.AlignCenter, "level curve, 0 dB")
        self._draw_label(painter, work, rect)

    def _draw_label(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        if self._levelling.chosen is None and self._held is None:
            return
        frame = self._levelling.chosen if self._levelling.chosen is not None else self._held[1]  # type: ignore[index]
        gain_db = float(self._levelling.curve(work).gain_db_at(frame))
        x, y = float(self.strip.x_of(frame)), self.y_of(gain_db, rect)
        box = QRectF(min(max(4.0, x - 34), self.strip.width() - 72), max(rect.top() + 2, y - 22), 68, 16)
        painter.fillRect(box, self.strip.theme.color("paper", 210))
        painter.setFont(themes.font(11, QFont.Weight.DemiBold))
        painter.setPen(self.strip.theme.color("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, format_db(gain_db, "dB"))

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of a node, or of the line in a selection."""
        work = self.work
        if work is None or not self._levelling.is_shown or event.button() != Qt.MouseButton.LeftButton:
            return False
        position = event.position()
        node = self._node_at(work, position)
        if node is not None:
            copies = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self._held = ("copy" if copies else "node", node, position.y())
            self._levelling.chosen = node
            self.strip.update()
            return True
        if not self._is_on_line(work, position):
            return False
        frame = round(self.strip.frame_at(position.x()))
        if work.selection and work.selection.start <= frame < work.selection.stop:
            self._levelling.chosen = None
            self._held = ("step", frame, position.y())
        else:
            self._held = ("nothing", frame, position.y())
            self.strip._bench.said.emit(
                "Select what is to change, then drag the line there; a double click sets a node."
            )
        return True

    def move(self, event: QMouseEvent) -> None:
        """Drag it."""
        if self._held is None:
            return
        what, frame, taken_at = self._held
        rect = self.strip.content_rect()
        if what == "step":
            self._levelling.try_step(self.gain_at(event.position().y(), rect) - self.gain_at(taken_at, rect))
        elif what != "nothing":
            to = round(self.strip.frame_at(event.position().x()))
            self._levelling.try_node(frame, to, self.gain_at(event.position().y(), rect), copies=what == "copy")

    def release(self, event: QMouseEvent) -> None:
        """Make what was dragged."""
        self._held = None
        self._levelling.make()

    def double_click(self, event: QMouseEvent) -> bool:
        """Set a node on the line."""
        work = self.work
        if work is None or not self._levelling.is_shown or not self._is_on_line(work, event.position()):
            return False
        frame = round(self.strip.frame_at(event.position().x()))
        self._levelling.set_node(frame)
        self._held = ("node", frame, event.position().y())
        return True

    def shape_at(self, position: QPointF) -> Qt.CursorShape | None:
        """Show what can be dragged."""
        work = self.work
        if work is None or not self._levelling.is_shown:
            return None
        if self._node_at(work, position) is not None:
            return Qt.CursorShape.SizeAllCursor
        return Qt.CursorShape.SizeVerCursor if self._is_on_line(work, position) else None

    def _node_at(self, work: Work, position: QPointF) -> int | None:
        rect = self.strip.content_rect()
        for node in self._levelling.curve(work).nodes:
            x, y = float(self.strip.x_of(node.frame)), self.y_of(node.gain_db, rect)
            if abs(x - position.x()) <= _GRIP and abs(y - position.y()) <= _GRIP:
                return node.frame
        return None

    def _is_on_line(self, work: Work, position: QPointF) -> bool:
        rect = self.strip.content_rect()
        if not rect.contains(position):
            return False
        gain_db = float(self._levelling.curve(work).gain_db_at(self.strip.frame_at(position.x())))
        return abs(self.y_of(gain_db, rect) - position.y()) <= _GRIP
