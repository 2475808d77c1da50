"""The picture of what is taken out, with a curve over it to draw: where more is taken, and where it is spared."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from umbrick.core.spectral.weighting import MOST_POINTS, parsed_weighting, weighting_db
from umbrick.ui.own_keys import keep_keys
from umbrick.ui.panels.noise_picture import NoisePicture
from umbrick.ui.strips.polyline import polyline

_RANGE_DB = 24.0
_GRIP = 12.0
_RADIUS = 4.0

Points = tuple[tuple[float, float], ...]


class WeightingPicture(NoisePicture):
    """A double click sets a point of the curve, a drag moves it, Del takes the one that was chosen last off."""

    tried = Signal(str)
    """The curve as it would be, while a point is dragged."""
    changed = Signal(str)
    """The curve as it is to be from now on."""

    def __init__(self) -> None:
        super().__init__()
        self.points: Points = ()
        self._has_curve = False
        self._chosen: int | None = None
        self._is_held = False
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        keep_keys(self, frozenset({Qt.Key.Key_Delete}))
        self.setToolTip(
            f"{self.toolTip()}. Double-click to draw a curve: up, more is taken there; down, it is spared; Del takes a "
            "point off"
        )

    def show_weighting(self, text: str | None) -> None:
        """Show a curve; None where there is none to draw."""
        self._has_curve = text is not None
        self.points = parsed_weighting(text or "")
        if self._chosen is not None and self._chosen >= len(self.points):
            self._chosen = None
        self.update()

    def place_of(self, point: tuple[float, float]) -> QPointF:
        """Return where a point is drawn."""
        return QPointF(self.x_of(point[0]), self._y_of(point[1]))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the spectra, and the curve over them."""
        super().paintEvent(event)
        if not self._has_curve:
            return
        painter, rect = QPainter(self), self._plot()
        zero = round(self._y_of(0.0)) + 0.5
        painter.setPen(QPen(self.theme.color("rule"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(0, zero), QPointF(rect.width(), zero))
        if not self.points:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self.theme.color("mended"), 1.4))
        x = np.arange(0.0, rect.width() + 1)
        levels_db = weighting_db(_text(self.points), self._hz_at(x))
        painter.drawPolyline(polyline(x, self._ys_of(levels_db, rect)))
        for number, point in enumerate(self.points):
            painter.setBrush(self.theme.color("mended" if number == self._chosen else "raised"))
            painter.drawEllipse(self.place_of(point), _RADIUS, _RADIUS)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of a point."""
        self._chosen = self._point_at(event.position())
        self._is_held = self._chosen is not None
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag it; it stays between its neighbours."""
        if not self._is_held or self._chosen is None:
            return
        number = self._chosen
        low = self.points[number - 1][0] * 1.01 if number > 0 else 20.0
        high = self.points[number + 1][0] / 1.01 if number + 1 < len(self.points) else self._top_hz
        hz = float(np.clip(self._hz_at(event.position().x()), min(low, high), high))
        self.points = (*self.points[:number], (hz, self._db_at(event.position().y())), *self.points[number + 1 :])
        self.update()
        self.tried.emit(_text(self.points))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go of it."""
        if self._is_held:
            self._is_held = False
            self.changed.emit(_text(self.points))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Set a point where there is none."""
        if not self._has_curve or self._point_at(event.position()) is not None or len(self.points) >= MOST_POINTS:
            return
        point = float(self._hz_at(event.position().x())), self._db_at(event.position().y())
        self.points = tuple(sorted((*self.points, point)))
        self._chosen = self.points.index(point)
        self.changed.emit(_text(self.points))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Take the chosen point off by Del."""
        if event.key() == Qt.Key.Key_Delete and self._chosen is not None:
            self.points = (*self.points[: self._chosen], *self.points[self._chosen + 1 :])
            self._chosen = None
            self.changed.emit(_text(self.points))
        else:
            super().keyPressEvent(event)

    def _ys_of(self, levels_db: np.ndarray, rect: QRectF) -> np.ndarray:
        return rect.center().y() - np.clip(levels_db / _RANGE_DB, -1, 1) * rect.height() / 2

    def _y_of(self, level_db: float) -> float:
        return float(self._ys_of(np.array([level_db]), self._plot())[0])

    def _db_at(self, y: float) -> float:
        rect = self._plot()
        return float(np.clip(round((rect.center().y() - y) * 2 * _RANGE_DB / rect.height()), -_RANGE_DB, _RANGE_DB))

    def _point_at(self, position: QPointF) -> int | None:
        away = [(self.place_of(point) - position).manhattanLength() for point in self.points]
        nearest = min(range(len(away)), key=away.__getitem__, default=None)
        return nearest if nearest is not None and away[nearest] <= _GRIP else None


def _text(points: Points) -> str:
    return " ".join(f"{hz:.0f}:{level_db:g}" for hz, level_db in points)
