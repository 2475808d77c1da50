"""A copy that is carried along a strip: drag it, its level handle up and down, or turn it over by a click."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QMouseEvent, QPainter, QPen

from umbrick.ui import theme as themes
from umbrick.ui.hand.pasting import Pasting
from umbrick.ui.strips.strip import Strip
from umbrick.ui.strips.tool import Tool
from umbrick.work.work import Work

_HANDLE_WIDTH, _HANDLE_HEIGHT = 26, 14
_DB_A_PIXEL = 0.1


class CarriedCopy(Tool):
    """Draws the copy's place as a veil over what it would become, with its handles."""

    def __init__(self, strip: Strip, pasting: Pasting) -> None:
        super().__init__(strip)
        self._pasting = pasting
        self._held: tuple[str, QPointF, float] | None = None
        """What is held (``copy`` or ``level``), where, and the start or the level it had then."""
        pasting.changed.connect(strip.update)

    @property
    def is_held_up(self) -> bool:
        """Whether a copy is carried."""
        return self._pasting.carried is not None

    def draw(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        """Draw the veil, the handles, and how the copy is."""
        carried = self._pasting.carried
        if carried is None:
            return
        theme = self.strip.theme
        band = self._band(rect)
        if not band.intersects(rect):
            return
        painter.fillRect(band, theme.color("mended", 38))
        painter.setPen(QPen(theme.color("mended"), 1))
        for x in (band.left(), band.right()):
            painter.drawLine(QPointF(round(x) + 0.5, rect.top()), QPointF(round(x) + 0.5, rect.bottom()))
        painter.setFont(themes.font(11, QFont.Weight.DemiBold))
        for name, text in (("level", "↕ dB"), ("turn", "−" if carried.inverted else "+")):
            handle = self.handle(name, rect)
            painter.fillRect(handle, theme.color("mended"))
            painter.setPen(theme.color("on_accent"))
            painter.drawText(handle, Qt.AlignmentFlag.AlignCenter, text)
        text = self._pasting.in_words()
        width = painter.fontMetrics().horizontalAdvance(text) + 12
        left = min(max(4.0, band.center().x() - width / 2), self.strip.width() - width - 4)
        box = QRectF(left, rect.top() + _HANDLE_HEIGHT + 6, width, 16)
        painter.fillRect(box, theme.color("paper", 220))
        painter.setPen(theme.color("mended"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of the copy or a handle, or turn it over."""
        carried = self._pasting.carried
        rect, position = self.strip.content_rect(), event.position()
        if carried is None or event.button() != Qt.MouseButton.LeftButton or not self._band(rect).intersects(rect):
            return False
        if self.handle("turn", rect).contains(position):
            self._pasting.invert()
            self._held = ("turned", position, 0.0)
        elif self.handle("level", rect).contains(position):
            self._held = ("level", position, carried.gain_db)
        elif self._band(rect).contains(position):
            self._held = ("copy", position, carried.start)
        else:
            return False
        return True

    def move(self, event: QMouseEvent) -> None:
        """Drag what is held; Ctrl turns snapping off."""
        if self._held is None or self.work is None:
            return
        what, taken, value = self._held
        moved = event.position() - taken
        if what == "level":
            self._pasting.set_gain(round(value - moved.y() * _DB_A_PIXEL, 1))
        elif what == "copy":
            per_pixel = self.strip.window_of(self.work).length / max(1, self.strip.width())
            snaps = not event.modifiers() & Qt.KeyboardModifier.ControlModifier
            self._pasting.carry_to(value + moved.x() * per_pixel, snaps=snaps)

    def release(self, event: QMouseEvent) -> None:
        """Let go: the copy stays there until it is dropped."""
        self._held = None

    def shape_at(self, position: QPointF) -> Qt.CursorShape | None:
        """Show what can be dragged."""
        rect = self.strip.content_rect()
        if self._pasting.carried is None or not self._band(rect).intersects(rect):
            return None
        if self.handle("level", rect).contains(position):
            return Qt.CursorShape.SizeVerCursor
        if self.handle("turn", rect).contains(position):
            return Qt.CursorShape.PointingHandCursor
        return Qt.CursorShape.OpenHandCursor if self._band(rect).contains(position) else None

    def tip_at(self, position: QPointF) -> str:
        """Say what the handles do."""
        rect = self.strip.content_rect()
        if self._pasting.carried is None or not self._band(rect).intersects(rect):
            return ""
        if self.handle("level", rect).contains(position):
            return "Drag up or down: the copy's level"
        return "Turn the copy's wave over" if self.handle("turn", rect).contains(position) else ""

    def _band(self, rect: QRectF) -> QRectF:
        carried = self._pasting.carried
        assert carried is not None
        left, right = float(self.strip.x_of(carried.start)), float(self.strip.x_of(carried.stop))
        return QRectF(left, rect.top(), max(2.0, right - left), rect.height())

    def handle(self, name: str, rect: QRectF) -> QRectF:
        """Return where the handle of this name is: ``level`` or ``turn``."""
        band = self._band(rect)
        left = band.center().x() - (_HANDLE_WIDTH + 2 if name == "level" else -2)
        left = min(max(rect.left() + 4, left), rect.right() - 2 * _HANDLE_WIDTH - 4)
        return QRectF(left, rect.top() + 2, _HANDLE_WIDTH, _HANDLE_HEIGHT)
