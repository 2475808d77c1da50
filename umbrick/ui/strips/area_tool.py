"""The area over the spectrogram: drawn with its outline, made by the pen, moved by the pointer."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPen
from scipy.ndimage import binary_erosion

from umbrick.core.areas.area import Area, Join
from umbrick.core.areas.shapes import Box, Cells, Outline, Point, Stroke
from umbrick.core.view.frequency_scale import FrequencyScale
from umbrick.core.view.window import Window
from umbrick.ui.hand.outlining import Outlining, Pen
from umbrick.ui.strips.passage import PassageStrip
from umbrick.ui.strips.tool import Tool
from umbrick.ui.theme import Theme
from umbrick.work.work import Work

_PIXELS_A_CELL = 2
_BINS = 1024
_FILL_ALPHA, _EDGE_ALPHA = 60, 255
_LEAST_PIXELS = 3.0
_SEEN = 0.25
"""Cells covered so far are drawn: an area may be thinner than one."""


class _Drawn(NamedTuple):
    """What a picture of an area was made from."""

    area: Area
    window: Window
    size: tuple[int, ...]
    scale: FrequencyScale
    theme: Theme


class AreaTool(Tool):
    """Draws the selected area and what the pen has drawn so far; answers the pointer in the spectrogram."""

    strip: PassageStrip

    def __init__(self, strip: PassageStrip, outlining: Outlining) -> None:
        super().__init__(strip)
        self._outlining = outlining
        self._points: list[QPointF] = []
        """Where the pen has gone."""
        self._join: Join | None = None
        self._moved_from: tuple[QPointF, Area] | None = None
        self._image: tuple[_Drawn, QImage] | None = None
        outlining.changed.connect(strip.update)

    # Drawing.

    def draw(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        """Draw the area over each channel it is on, and the line of the pen."""
        spectrum = self.strip.spectrum_rect()
        if spectrum is None:
            return
        lanes = self.strip.lanes(work, spectrum)
        if work.area is not None:
            area = self._shown_area(work)
            for channel in work.area.channels:
                lane = lanes[channel]
                painter.drawImage(lane, self._picture(work, area, lane))
        self._draw_pen(painter, work)

    def _draw_pen(self, painter: QPainter, work: Work) -> None:
        if not self._points:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self.strip.theme.color("mended"), 1.5))
        if self._outlining.pen is Pen.BOX:
            painter.drawRect(QRectF(self._points[0], self._points[-1]).normalized())
        elif self._outlining.pen is Pen.OUTLINE:
            painter.drawPolyline(self._points)
        else:
            width, height = self._brush_pixels(work, self._points[-1])
            for point in self._points:
                painter.drawEllipse(point, width / 2, height / 2)

    def _brush_pixels(self, work: Work, at: QPointF) -> tuple[float, float]:
        frames = self._outlining.brush_ms * work.rate / 1000
        width = frames * self.strip.width() / self.strip.shown_window(work).length
        hz = self.strip.hz_at(at.y())
        if hz is None:
            return width, 8.0
        half = self._outlining.brush_hz / 2
        ends = self.strip.y_of_hz([max(0.0, hz - half), hz + half])
        return width, float(abs(ends[0] - ends[1]))

    def _picture(self, work: Work, area: Area, lane: QRectF) -> QImage:
        window = self.strip.shown_window(work)
        size = tuple(max(1, int(side) // _PIXELS_A_CELL) for side in (lane.width(), lane.height()))
        scale = self.strip.scale(work)
        drawn = _Drawn(area, window, size, scale, self.strip.theme)
        if self._image is None or self._image[0] != drawn:
            self._image = drawn, _image_of(drawn, work.rate)
        return self._image[1]

    def _shown_area(self, work: Work) -> Area:
        assert work.area is not None
        if self._moved_from is None or not self._points:
            return work.area.area
        origin, area = self._moved_from
        return self._carried(area, origin, self._points[-1])

    # The pointer.

    def press(self, event: QMouseEvent) -> bool:
        """Begin with the pen, gather, or take hold of the area."""
        work, position = self.work, event.position()
        if work is None or event.button() != Qt.MouseButton.LeftButton or self._hz(position) is None:
            return False
        if self.strip.is_on_axis(position):
            return False
        self._join = _join_of(event)
        if self._outlining.pen is Pen.GATHER:
            self._gather(position)
            return True
        if self._outlining.pen is not Pen.NONE:
            self._points = [position]
            return True
        if work.area is not None and self._is_inside(work, position):
            self._moved_from, self._points = (position, work.area.area), []
            return True
        return False

    def double_click(self, event: QMouseEvent) -> bool:
        """Gather what goes on like the place under the pointer."""
        position = event.position()
        if self.work is None or event.button() != Qt.MouseButton.LeftButton or self._hz(position) is None:
            return False
        if self._outlining.pen is not Pen.NONE:
            return False
        self._join = _join_of(event)
        self._gather(position)
        return True

    def move(self, event: QMouseEvent) -> None:
        """Go on with the pen, or with moving the area."""
        if self._moved_from is None and not self._points:
            return
        rect = self.strip.spectrum_rect()
        if rect is None:
            return
        x = min(max(0.0, event.position().x()), self.strip.width())
        y = min(max(rect.top(), event.position().y()), rect.bottom() - 1)
        if self._outlining.pen is Pen.BOX:
            self._points = [*self._points[:1], QPointF(x, y)]
        else:
            self._points.append(QPointF(x, y))
        self.strip.update()

    def release(self, event: QMouseEvent) -> None:
        """Make what was drawn the area, or a part of it."""
        work, points = self.work, self._points
        moved_from, self._moved_from, self._points = self._moved_from, None, []
        if work is None:
            return
        if moved_from is not None:
            origin, area = moved_from
            if points:
                self._outlining.select(self._carried(area, origin, points[-1]))
            return
        if len(points) < 2:
            self.strip.update()
            return
        made = [Point(self.strip.frame_at(p.x()), self._hz(p) or 0.0) for p in points]
        pen, join = self._outlining.pen, self._join
        if join is None:
            self._outlining.clear()
        if pen is Pen.BOX:
            (start, low), (stop, high) = made[0], made[-1]
            shape = Box(min(start, stop), max(start, stop), min(low, high), max(low, high))
            self._outlining.draw(shape, join or Join.ADD)
        elif pen is Pen.OUTLINE and len(made) >= 3:
            self._outlining.draw(Outline(tuple(made)), join or Join.ADD)
        elif pen is Pen.BRUSH:
            frames = self._outlining.brush_ms * work.rate / 1000
            self._outlining.draw(Stroke(frames, self._outlining.brush_hz, tuple(made)), join or Join.ADD)

    def shape_at(self, position: QPointF) -> Qt.CursorShape | None:
        """Return a cross for the pen, a hand over the area."""
        work = self.work
        if work is None or self._hz(position) is None or self.strip.is_on_axis(position):
            return None
        if self._outlining.pen is not Pen.NONE:
            return Qt.CursorShape.CrossCursor
        if work.area is not None and self._is_inside(work, position):
            return Qt.CursorShape.OpenHandCursor
        return None

    def tip_at(self, position: QPointF) -> str:
        """Return how an area is gathered."""
        if self.work is None or self._hz(position) is None or self.work.area is not None:
            return ""
        return "Double-click to gather what goes on like this place"

    def _hz(self, position: QPointF) -> float | None:
        return self.strip.hz_at(position.y())

    def _gather(self, position: QPointF) -> None:
        work, hz = self.work, self._hz(position)
        if work is not None and hz is not None:
            channel = self.strip.channel_at(work, position.y())
            self._outlining.gather(round(self.strip.frame_at(position.x())), hz, channel, self._join)

    def _carried(self, area: Area, origin: QPointF, to: QPointF) -> Area:
        frames = self.strip.frame_at(to.x()) - self.strip.frame_at(origin.x())
        was, now = self._hz(origin), self._hz(to)
        return area.moved(round(frames), round((now or 0.0) - (was or 0.0)) if was and now else 0.0)

    def _is_inside(self, work: Work, position: QPointF) -> bool:
        hz = self._hz(position)
        if work.area is None or hz is None or self.strip.channel_at(work, position.y()) not in work.area.channels:
            return False
        per_pixel = self.strip.shown_window(work).length / max(1, self.strip.width())
        start, stop, _, _ = work.area.area.extent
        frame = self.strip.frame_at(position.x())
        if not start - per_pixel <= frame <= stop + per_pixel:
            return False
        bin_hz = work.rate / 2 / _BINS
        cells = Cells(frame, max(1.0, _LEAST_PIXELS * per_pixel), 1, bin_hz, _BINS + 1)
        covered = work.area.area.covered(cells)[0]
        at = round(hz / bin_hz)
        return bool(covered[max(0, at - 1) : at + 2].max() > 0)


def _join_of(event: QMouseEvent) -> Join | None:
    """Return how what is drawn joins the area: Shift adds, Alt takes away, both leave what both have."""
    shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
    alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
    if shift and alt:
        return Join.MEET
    return Join.ADD if shift else Join.TAKE if alt else None


def _image_of(drawn: _Drawn, rate: int) -> QImage:
    """Return an area's picture: a wash over what it covers, and a line round it."""
    columns, rows = drawn.size
    step, hz = drawn.window.length / columns, rate / 2 / _BINS
    start, stop, _, high_hz = drawn.area.extent
    # What the area does not reach costs nothing; one cell on either side belongs to its edge.
    left, right = ((at - drawn.window.start) / step for at in (start, stop))
    seen = slice(min(columns, max(0, int(left) - 1)), max(0, min(columns, int(right) + 2)))
    image = QImage(columns, rows, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(Qt.GlobalColor.transparent)
    if seen.stop <= seen.start:
        return image
    bins = min(_BINS, int(high_hz * max(1, drawn.area.harmonics) / hz) + 2)
    cells = Cells(drawn.window.start + (seen.start + 0.5) * step, step, seen.stop - seen.start, hz, bins + 1)
    covered = drawn.area.covered(cells).T >= _SEEN
    # A row of pixels may be higher than the area: whatever of it lies in a row is seen.
    edges = drawn.scale.hz_at(1 - np.arange(rows + 1) / rows) / cells.hz
    first = np.clip(np.rint(edges[1:]).astype(np.int64), 0, bins)
    last = np.clip(np.rint(edges[:-1]).astype(np.int64), first, bins) + 1
    counts = np.concatenate([np.zeros((1, covered.shape[1]), np.int32), np.cumsum(covered, axis=0, dtype=np.int32)])
    inside = counts[last] > counts[first]
    edge = inside & ~binary_erosion(inside, np.ones((3, 3)), border_value=1)
    pixels = np.frombuffer(image.bits(), np.uint32).reshape(rows, -1)[:, seen]
    for mask, name, alpha in ((inside, "selection", _FILL_ALPHA), (edge, "mended", _EDGE_ALPHA)):
        color = drawn.theme.color(name)
        red, green, blue = (round(part * alpha / 255) for part in (color.red(), color.green(), color.blue()))
        pixels[mask] = alpha << 24 | red << 16 | green << 8 | blue
    return image
