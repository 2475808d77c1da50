"""The response of filters over the sound's own spectrum, with a point for each filter to drag."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent

from umbrick.core.filters.shapes import (
    CUTS,
    LEAST_Q,
    LEVELLING,
    LOWEST_HZ,
    MOST_POINTS,
    MOST_Q,
    Point,
    response_at,
)
from umbrick.ui.own_keys import MOVING, keep_keys
from umbrick.ui.panels.frequency_plot import FrequencyPlot
from umbrick.ui.strips.polyline import polyline

_RANGE_DB = 24.0
_GRIP = 8.0
_Q_STEP = 1.15
_NUDGE_OCTAVES, _NUDGE_DB = 1 / 24, 0.5


class ResponseCurve(FrequencyPlot):
    """Drag a point to another frequency and gain (that of a cut to another sharpness); a double click sets a bell;
    the wheel makes the point under it sharper; Del takes it off."""

    tried = Signal(object)
    """Points as they would be, while one is dragged."""
    changed = Signal(object)
    """Points as they are to be from now on."""
    chosen_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.points: tuple[Point, ...] = ()
        self.chosen = 0
        self._spectrum: npt.NDArray[np.float64] | None = None
        self._is_held = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        keep_keys(self, MOVING | {Qt.Key.Key_Delete})
        self.setAccessibleName("Response of the filters")
        self.setToolTip(
            "Drag a point; a double click sets another, Del takes one off; the wheel makes it sharper or wider"
        )

    def show_points(self, points: tuple[Point, ...], rate: int) -> None:
        """Show filters."""
        self._rate = rate
        self.points = points
        self.chosen = min(self.chosen, len(points) - 1)
        self.update()

    def show_spectrum(self, spectrum_db: npt.NDArray[np.float64] | None) -> None:
        """Show the spectrum of the sound that comes to the filters."""
        self._spectrum = spectrum_db
        self.update()

    def choose(self, index: int) -> None:
        """Work on one of the points."""
        self.chosen = index
        self.chosen_changed.emit()
        self.update()

    # Places.

    def y_of(self, level_db: float) -> float:
        """Return where a gain is."""
        rect = self._plot()
        return rect.center().y() - min(max(-1.0, level_db / _RANGE_DB), 1.0) * rect.height() / 2

    def _db_at(self, y: float) -> float:
        rect = self._plot()
        return float(np.clip((rect.center().y() - y) * 2 * _RANGE_DB / rect.height(), -_RANGE_DB, _RANGE_DB))

    def place_of(self, point: Point) -> QPointF:
        """Return where a filter's point is drawn."""
        if point.shape in LEVELLING:
            level_db = point.gain_db
        elif point.shape in CUTS:
            level_db = 20 * np.log10(point.q)
        else:
            level_db = -_RANGE_DB * 0.9
        return QPointF(self.x_of(point.frequency_hz), self.y_of(level_db))

    # Painting.

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it."""
        theme, rect = self.theme, self._plot()
        painter = QPainter(self)
        painter.fillRect(rect, theme.color("paper"))
        self._draw_spectrum(painter, rect, self._spectrum)
        self._draw_frequencies(painter, rect)
        for level_db in (-12, 0, 12):
            y = round(self.y_of(level_db)) + 0.5
            painter.setPen(
                QPen(theme.color("rule"), 1, Qt.PenStyle.SolidLine if level_db == 0 else Qt.PenStyle.DotLine)
            )
            painter.drawLine(QPointF(0, y), QPointF(rect.width(), y))
        self._draw_response(painter, rect)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for index, point in enumerate(self.points):
            is_chosen = index == self.chosen
            painter.setPen(QPen(theme.color("mended"), 1.5))
            painter.setBrush(theme.color("mended" if is_chosen else "raised"))
            painter.drawEllipse(self.place_of(point), 5, 5)
        if self.hasFocus():
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.color("mended"), 1))
            painter.drawRect(rect.adjusted(0.5, 0.5, -0.5, -0.5))

    def _draw_response(self, painter: QPainter, rect: QRectF) -> None:
        if not self.points:
            return
        x = np.arange(0.0, rect.width() + 1)
        level_db = 20 * np.log10(np.maximum(response_at(self.points, self._rate, self._hz_at(x)), 1e-6))
        y = rect.center().y() - np.clip(level_db / _RANGE_DB, -1.02, 1.02) * rect.height() / 2
        zero = rect.center().y()
        area = QPolygonF(polyline(np.concatenate([x, [x[-1], 0.0]]), np.concatenate([y, [zero, zero]])))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("mended", 28))
        painter.drawPolygon(area)
        painter.setPen(QPen(self.theme.color("mended"), 1))
        for lift in (0.0, 0.7):
            painter.drawPolyline(polyline(x, y + lift))

    # The pointer and the keys.

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of the point under the pointer."""
        index = self._point_at(event.position())
        self._is_held = index is not None
        if index is not None:
            self.choose(index)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag it."""
        if self._is_held:
            self.tried.emit(self._exchanged(self._moved(self.points[self.chosen], event.position())))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go of it."""
        if self._is_held:
            self._is_held = False
            self.changed.emit(self.points)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Set a bell where there is no point."""
        if self._point_at(event.position()) is None and len(self.points) < MOST_POINTS:
            hz, level_db = float(self._hz_at(event.position().x())), round(2 * self._db_at(event.position().y())) / 2
            self.chosen = len(self.points)
            self.changed.emit((*self.points, Point("bell", round(hz, 1), level_db or -3.0, 1.0)))

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Make the point under the pointer sharper, or wider."""
        index = self._point_at(event.position())
        if index is None:
            event.ignore()
            return
        self.choose(index)
        point = self.points[index]
        q = float(np.clip(point.q * _Q_STEP ** (event.angleDelta().y() / 120), LEAST_Q, MOST_Q))
        self.changed.emit(self._exchanged(replace(point, q=round(q, 3))))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Nudge the chosen point by the arrow keys, go to the next by Page Down and Up, take it off by Del."""
        key, index = event.key(), self.chosen
        if not self.points:
            return
        point = self.points[index]
        turns = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        lifts = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}
        steps = {Qt.Key.Key_PageDown: 1, Qt.Key.Key_PageUp: -1}
        if key in turns:
            hz = point.frequency_hz * 2 ** (turns[Qt.Key(key)] * _NUDGE_OCTAVES)
            self.changed.emit(self._exchanged(self._at(point, hz)))
        elif key in lifts and point.shape in LEVELLING:
            gain_db = float(np.clip(point.gain_db + lifts[Qt.Key(key)] * _NUDGE_DB, -_RANGE_DB, _RANGE_DB))
            self.changed.emit(self._exchanged(replace(point, gain_db=gain_db)))
        elif key in steps:
            self.choose((index + steps[Qt.Key(key)]) % len(self.points))
        elif key == Qt.Key.Key_Delete and len(self.points) > 1:
            self.changed.emit((*self.points[:index], *self.points[index + 1 :]))
        else:
            super().keyPressEvent(event)

    def _point_at(self, position: QPointF) -> int | None:
        away = [(self.place_of(point) - position).manhattanLength() for point in self.points]
        nearest = min(range(len(away)), key=away.__getitem__, default=None)
        return nearest if nearest is not None and away[nearest] <= 1.5 * _GRIP else None

    def _moved(self, point: Point, position: QPointF) -> Point:
        point = self._at(point, float(self._hz_at(position.x())))
        level_db = self._db_at(position.y())
        if point.shape in LEVELLING:
            return replace(point, gain_db=round(level_db * 10) / 10)
        if point.shape in CUTS:
            return replace(point, q=float(np.clip(round(10 ** (level_db / 20), 3), LEAST_Q, MOST_Q)))
        return point

    def _at(self, point: Point, hz: float) -> Point:
        return replace(point, frequency_hz=float(np.clip(round(hz, 1), LOWEST_HZ, self._top_hz)))

    def _exchanged(self, point: Point) -> tuple[Point, ...]:
        return (*self.points[: self.chosen], point, *self.points[self.chosen + 1 :])
