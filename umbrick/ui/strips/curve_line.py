"""A curve over a strip: a line with nodes that are dragged; inside a selection it moves as a step with ramps."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, SignalInstance
from PySide6.QtGui import QFont, QMouseEvent, QPainter, QPen

from umbrick.ui import theme as themes
from umbrick.ui.strips.polyline import polyline
from umbrick.ui.strips.strip import Strip
from umbrick.ui.strips.tool import Tool
from umbrick.work.work import Work

_GRIP = 6
_RADIUS = 3.5


class _Editor(Protocol):
    """What a curve is changed by: first tried, then made."""

    chosen: int | None
    """The frame of the node that keys act on."""

    @property
    def changed(self) -> SignalInstance: ...
    @property
    def is_shown(self) -> bool: ...
    def nodes(self, work: Work) -> Sequence[tuple[int, float]]: ...
    def value_at(self, work: Work, frame: float) -> float: ...
    def try_step(self, by: float, /) -> None: ...
    def try_node(self, frame: int, to_frame: int, to: float, /, copies: bool = False) -> None: ...
    def set_node(self, frame: int) -> None: ...
    def make(self) -> None: ...


@dataclass(frozen=True)
class Scale:
    """How values of a curve are drawn and told: from ``top`` to ``bottom``, in steps of ``grain``.

    ``rest`` is where the curve lies while nothing is changed.
    """

    top: float
    bottom: float
    grain: float
    rest: float
    caption: str
    told: Callable[[float], str]


class CurveLine(Tool):
    """Draws a curve and changes it with the pointer."""

    def __init__(self, strip: Strip, editor: _Editor, scale: Scale) -> None:
        super().__init__(strip)
        self._editor, self._scale = editor, scale
        self._held: tuple[str, int, float] | None = None
        """What is held (``node``, ``copy`` or ``step``), its frame, and the height it was taken at."""
        editor.changed.connect(strip.update)

    def y_of(self, value: float, rect: QRectF) -> float:
        """Return the height of a value."""
        top, bottom = self._scale.top, self._scale.bottom
        share = (top - min(max(value, bottom), top)) / (top - bottom)
        return rect.top() + share * rect.height()

    def value_at(self, y: float, rect: QRectF) -> float:
        """Return the value at a height, to its grain."""
        top, bottom, grain = self._scale.top, self._scale.bottom, self._scale.grain
        share = min(max(0.0, (y - rect.top()) / rect.height()), 1.0)
        return float(round((top - share * (top - bottom)) / grain) * grain)

    def draw(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        """Draw the line, its nodes and the value where it is held."""
        if not self._editor.is_shown:
            return
        theme, held = self.strip.theme, self._editor.nodes(work)
        nodes = [(float(self.strip.x_of(frame)), self.y_of(value, rect), frame) for frame, value in held]
        first, last = (self._editor.value_at(work, frame) for frame in (0, work.frames))
        x = np.array([rect.left() - 1, *(x for x, _, _ in nodes), rect.right() + 1])
        y = np.array([self.y_of(first, rect), *(y for _, y, _ in nodes), self.y_of(last, rect)])
        rest = round(self.y_of(self._scale.rest, rect)) + 0.5
        painter.setPen(QPen(theme.color("faint", 120), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(rect.left(), rest), QPointF(rect.right(), rest))
        painter.save()
        painter.setClipRect(rect)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        order = np.argsort(x, kind="stable")
        painter.setPen(QPen(theme.color("ink"), 1))
        for lift in (0.0, 0.7):
            painter.drawPolyline(polyline(x[order], y[order] + lift))
        for at_x, at_y, frame in nodes:
            painter.setBrush(theme.color("ink" if frame == self._editor.chosen else "paper"))
            painter.drawEllipse(QPointF(at_x, at_y), _RADIUS, _RADIUS)
        painter.restore()
        painter.setFont(themes.font(10))
        painter.setPen(theme.color("faint"))
        width = painter.fontMetrics().horizontalAdvance(self._scale.caption) + 12
        above = rest - 15 if rest - 15 > rect.top() else rest + 2
        label = QRectF(rect.left() + 8, above, width, 13)
        painter.fillRect(label, theme.color("paper", 210))
        painter.drawText(label, Qt.AlignmentFlag.AlignCenter, self._scale.caption)
        self._draw_label(painter, work, rect)

    def _draw_label(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        if self._editor.chosen is None and self._held is None:
            return
        frame = self._editor.chosen if self._editor.chosen is not None else self._held[1]  # type: ignore[index]
        value = self._editor.value_at(work, frame)
        x, y = float(self.strip.x_of(frame)), self.y_of(value, rect)
        box = QRectF(min(max(4.0, x - 34), self.strip.width() - 72), max(rect.top() + 2, y - 22), 68, 16)
        painter.fillRect(box, self.strip.theme.color("paper", 210))
        painter.setFont(themes.font(11, QFont.Weight.DemiBold))
        painter.setPen(self.strip.theme.color("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self._scale.told(value))

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of a node, or of the line in a selection."""
        work = self.work
        if work is None or not self._editor.is_shown or event.button() != Qt.MouseButton.LeftButton:
            return False
        position = event.position()
        node = self._node_at(work, position)
        if node is not None:
            copies = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self._held = ("copy" if copies else "node", node, position.y())
            self._editor.chosen = node
            self.strip.update()
            return True
        if not self._is_on_line(work, position):
            return False
        frame = round(self.strip.frame_at(position.x()))
        if work.selection and work.selection.start <= frame < work.selection.stop:
            self._editor.chosen = None
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
            self._editor.try_step(self.value_at(event.position().y(), rect) - self.value_at(taken_at, rect))
        elif what != "nothing":
            to = round(self.strip.frame_at(event.position().x()))
            self._editor.try_node(frame, to, self.value_at(event.position().y(), rect), copies=what == "copy")

    def release(self, event: QMouseEvent) -> None:
        """Make what was dragged."""
        self._held = None
        self._editor.make()

    def double_click(self, event: QMouseEvent) -> bool:
        """Set a node on the line."""
        work = self.work
        if work is None or not self._editor.is_shown or not self._is_on_line(work, event.position()):
            return False
        frame = round(self.strip.frame_at(event.position().x()))
        self._editor.set_node(frame)
        self._held = ("node", frame, event.position().y())
        return True

    def shape_at(self, position: QPointF) -> Qt.CursorShape | None:
        """Show what can be dragged."""
        work = self.work
        if work is None or not self._editor.is_shown:
            return None
        if self._node_at(work, position) is not None:
            return Qt.CursorShape.SizeAllCursor
        return Qt.CursorShape.SizeVerCursor if self._is_on_line(work, position) else None

    def _node_at(self, work: Work, position: QPointF) -> int | None:
        rect = self.strip.content_rect()
        for frame, value in self._editor.nodes(work):
            x, y = float(self.strip.x_of(frame)), self.y_of(value, rect)
            if abs(x - position.x()) <= _GRIP and abs(y - position.y()) <= _GRIP:
                return frame
        return None

    def _is_on_line(self, work: Work, position: QPointF) -> bool:
        rect = self.strip.content_rect()
        if not rect.contains(position):
            return False
        value = self._editor.value_at(work, self.strip.frame_at(position.x()))
        return abs(self.y_of(value, rect) - position.y()) <= _GRIP
