"""The Loupe strip: single samples, the band-limited curve between them, and the rebuilt peak over the fault."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QMouseEvent, QPainter, QPen, QResizeEvent
from PySide6.QtWidgets import QWidget

from umbrick.core.course.laid import underneath
from umbrick.core.errors import CancelledError
from umbrick.core.model.bounds import spans_in
from umbrick.core.sound.band_limited import CURVE_CONTEXT, band_limited
from umbrick.core.survey.finding import SPANNING_KINDS, State
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.provenance import NATURES, provenance
from umbrick.core.timeline.runs import NO_ORIGIN
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, channel_name, format_clock, format_count, format_db, format_length
from umbrick.core.view.ticks import sample_ticks
from umbrick.core.view.window import Window
from umbrick.ui import theme as themes
from umbrick.ui.bench.viewing import Viewing
from umbrick.ui.hand.drawing import Drawing
from umbrick.ui.strips.polyline import polyline
from umbrick.ui.strips.strip import RULER_HEIGHT, TITLE_HEIGHT, Picture, Strip
from umbrick.work.work import Work

_DOTS_FROM = 4.0
"""Pixels a sample from which dots are drawn."""

_STEMS_FROM = 7.0
_POINTS_PER_PIXEL = 1.0
_MOST_OVERSAMPLING = 32
_HEADROOM = 0.12


class _Content(NamedTuple):
    """Samples from ``first`` on, of the original and of what is shown, and the curves through both; ``natures`` are
    indices into ``NATURES``."""

    first: int
    channel: int
    before: npt.NDArray[np.float64]
    shown: npt.NDArray[np.float64]
    before_curve: npt.NDArray[np.float64]
    shown_curve: npt.NDArray[np.float64]
    oversampling: int
    natures: npt.NDArray[np.int8]
    mended: npt.NDArray[np.bool_] | None = None
    """Where a course is laid over it: which samples were changed beneath."""


@dataclass(frozen=True)
class _LoupeRequest:
    version: Version
    window: Window
    width: int
    channel: int
    original: Version = field(compare=False)

    def make(self, is_overtaken: Callable[[], bool]) -> _Content:
        """Return the samples in view and the curves through them, of the original too."""
        version, channel, window = self.version, self.channel, self.window
        first, last = window.frames_in(version.frames, beside=1)
        per_sample = self.width / window.length
        oversampling = int(np.clip(np.ceil(per_sample * _POINTS_PER_PIXEL), 1, _MOST_OVERSAMPLING))
        start, stop = max(0, first - CURVE_CONTEXT), min(version.frames, last + CURVE_CONTEXT)
        beneath = underneath(version)
        now = version.read(start, stop)[:, channel].astype(np.float64)
        if is_overtaken():
            raise CancelledError
        then = _original_beside(beneath, self.original, start, stop)[:, channel].astype(np.float64)
        shown, shown_curve = _with_curve(now, first - start, last - start, oversampling)
        before, before_curve = _with_curve(then, first - start, last - start, oversampling)
        pieces = provenance(beneath, self.original, first, last)
        natures = np.repeat(pieces.natures, np.diff(pieces.bounds))
        mended = None
        if beneath is not version:
            mended = beneath.read(first, last)[:, channel] != before.astype(np.float32)
        return _Content(first, channel, before, shown, before_curve, shown_curve, oversampling, natures, mended)


class LoupeStrip(Strip):
    """Wheel scrolls, Ctrl+wheel zooms, a drag selects to the sample, a click sets the cursor on one.

    With the pen taken up, a drag draws, a click sets one sample, and Shift draws a straight line.
    """

    title = "Loupe"

    def __init__(self, viewing: Viewing, drawing: Drawing, tools: Sequence[QWidget] = ()) -> None:
        super().__init__(viewing)
        self._drawing = drawing
        self._tools = tools
        for tool in tools:
            tool.setParent(self)
        self._scale_held: tuple[float, float] | None = None
        self.caption = ""
        """What the title says of what is shown."""
        self._pen_down: tuple[int, float] | None = None
        self._drawn: _Content | None = None
        """What was drawn last, until the picture of the new version is there."""
        drawing.changed.connect(self.update)
        self.setMinimumHeight(TITLE_HEIGHT + RULER_HEIGHT + 80)

    def window_of(self, work: Work) -> Window:
        """Return the span shown."""
        return work.loupe

    def set_window(self, window: Window) -> None:
        """Show another span, of at most 4,000 samples."""
        work = self._work
        if work is None:
            return
        if abs(window.length - work.loupe.length) > 1e-6:
            self._bench.zoom_loupe(window.length / work.loupe.length, (window.start + window.stop) / 2)
        else:
            self._bench.set_loupe(window)

    def zoom(self, factor: float, anchor: float) -> None:
        """Zoom about a frame."""
        self._bench.zoom_loupe(factor, anchor)

    def _request_of(self, work: Work) -> _LoupeRequest:
        version = self.shown_version(work)
        return _LoupeRequest(version, self.shown_window(work), self.width(), work.channel, work.history.original)

    def shown_version(self, work: Work) -> Version:
        """Return the version to be drawn; while the pen is up, the samples that it changes, beneath the course."""
        shown = super().shown_version(work)
        return underneath(shown) if self._drawing.is_on or self._drawing.stroke is not None else shown

    def _paint(self, painter: QPainter, work: Work, picture: Picture | None) -> None:
        content = self._content(work, picture)
        self._draw_caption(painter, work, content)
        if content is None or not len(content.shown):
            return
        rect = self.content_rect()
        low, high = self._scale_held or _scale(content)
        self._draw_lines(painter, rect, low, high)
        focus = work.focus
        if focus and focus.kind not in SPANNING_KINDS and content.channel in focus.channels:
            left, right = (
                self._center_x(focus.start) - self._spacing(work) / 2,
                self._center_x(focus.stop) - self._spacing(work) / 2,
            )
            painter.fillRect(
                QRectF(left, rect.y(), max(1.0, right - left), rect.height()), self.theme.color("wrong", 18)
            )
        self._draw_selection(painter, work, rect)
        self._draw_cursor(painter, work, rect)
        painter.setClipRect(rect)
        self._draw_samples(painter, work, content, rect, low, high)
        painter.setClipping(False)
        self._draw_tools(painter, work, rect)
        self._draw_ruler(painter, work, rect)

    def _spacing(self, work: Work) -> float:
        return self.width() / work.loupe.length

    def _center_x(self, frame: float) -> float:
        """Return where a sample's dot is: in the middle of the frame it lasts."""
        return self.x_of(frame + 0.5)

    def _content(self, work: Work, picture: Picture | None) -> _Content | None:
        """Return what is drawn: the picture, with the stroke in it that is being drawn."""
        if picture is None:
            return None
        content: _Content = picture.content
        stroke = self._drawing.stroke
        if stroke is None or stroke.work is not work:
            return self._drawn if self._drawn is not None and picture.request != self._request_of(work) else content
        first, last = content.first - stroke.first, content.first - stroke.first + len(content.shown)
        if content.channel not in (*stroke.channels, work.channel) or first < 0 or last > len(stroke.samples):
            return content
        wave = stroke.samples[:, content.channel]
        shown, curve = _with_curve(wave, first, last, content.oversampling)
        self._drawn = content._replace(shown=shown, shown_curve=curve, mended=None)
        return self._drawn

    def _take(self, key: Any, content: Any) -> None:
        super()._take(key, content)
        if self._drawing.stroke is None:
            self._drawn = None

    def _draw_caption(self, painter: QPainter, work: Work, content: _Content | None) -> None:
        painter.setFont(themes.font(11))
        painter.setPen(self.theme.color("faint"))
        count = round(work.loupe.length)
        where = format_clock(round((work.loupe.start + work.loupe.stop) / 2), work.rate)
        text = f"{format_count(count, 'sample')} · {format_length(count, work.rate)} · {where}"
        if work.channels > 1:
            text += f" · {channel_name(work.channel, work.channels)}"
        if content is not None and len(content.shown_curve):
            peak = amplitude_to_db(float(np.abs(content.shown_curve).max()))
            text += f" · true peak {format_db(peak, 'dBTP')}"
        if self._drawing.is_on and (reason := self._drawing.reason_against()):
            painter.setPen(self.theme.color("wrong"))
            text = reason
        self.caption = text
        room = self.width() - 80 - sum(tool.width() + 4 for tool in self._tools)
        painter.drawText(QRectF(70, 0, room, TITLE_HEIGHT), Qt.AlignmentFlag.AlignVCenter, text)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the tools at the right of the title."""
        super().resizeEvent(event)
        self._drawing.most_drawable = int(self.width() / _DOTS_FROM)
        right = self.width() - 4
        for tool in reversed(self._tools):
            tool.adjustSize()
            tool.setGeometry(right - tool.width(), 1, tool.width(), TITLE_HEIGHT - 1)
            right -= tool.width() + 4

    @staticmethod
    def height_of(value: Any, rect: QRectF, low: float, high: float) -> Any:
        """Return where values lie in a rectangle whose lower and upper edges are two others."""
        return rect.bottom() - (value - low) * rect.height() / (high - low)

    def _draw_lines(self, painter: QPainter, rect: QRectF, low: float, high: float) -> None:
        painter.setFont(themes.font(10))
        for value, color, text in ((0.0, "rule", ""), (1.0, "wrong", "full scale"), (-1.0, "wrong", "full scale")):
            if low <= value <= high:
                y = round(self.height_of(value, rect, low, high)) + 0.5
                painter.setPen(QPen(self.theme.color(color), 1))
                painter.drawLine(QPointF(0, y), QPointF(rect.right(), y))
                painter.drawText(QRectF(rect.right() - 80, y - 14, 74, 13), Qt.AlignmentFlag.AlignRight, text)

    def _draw_samples(
        self, painter: QPainter, work: Work, content: _Content, rect: QRectF, low: float, high: float
    ) -> None:
        spacing = self._spacing(work)
        frames = content.first + np.arange(len(content.shown))
        x = (frames + 0.5 - self.shown_window(work).start) * spacing
        curve_x = x[0] + np.arange(len(content.shown_curve)) * spacing / content.oversampling
        changed = content.shown != content.before
        has_ghost = bool(changed.any())
        if content.mended is not None:
            changed = content.mended
        y = self.height_of(content.shown, rect, low, high)
        before_y = self.height_of(content.before, rect, low, high)
        if spacing >= _STEMS_FROM:
            painter.setPen(QPen(self.theme.color("rule"), 1))
            zero = self.height_of(min(max(0.0, low), high), rect, low, high)
            for stem_x, stem_y in zip(x.tolist(), y.tolist(), strict=True):
                painter.drawLine(QPointF(stem_x, zero), QPointF(stem_x, stem_y))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw_trust(painter, work, content, rect, low, high)
        if has_ghost:
            self._draw_curve(painter, curve_x, self.height_of(content.before_curve, rect, low, high), "ghost")
        self._draw_curve(painter, curve_x, self.height_of(content.shown_curve, rect, low, high), "body")
        for first, last in zip(*spans_in(changed), strict=True):
            part = slice(max(0, (first - 1) * content.oversampling), last * content.oversampling + 1)
            rebuilt_y = self.height_of(content.shown_curve[part], rect, low, high)
            for lift in (0.0, 0.7):
                self._draw_curve(painter, curve_x[part], rebuilt_y + lift, "mended")
        if spacing >= _DOTS_FROM:
            self._draw_dots(painter, work, content, frames, x, y, before_y, changed)
        self._draw_rebuilt_label(painter, work, content, rect, x, y, changed)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _draw_trust(
        self, painter: QPainter, work: Work, content: _Content, rect: QRectF, low: float, high: float
    ) -> None:
        """Draw how far the chosen candidate's samples may be from what they were: one deviation either way."""
        offer = self._viewing.mending.offer_in(work)
        if (
            offer is None
            or offer.channel != content.channel
            or underneath(self._viewing.shown_version(work)) is not offer.mended.version
        ):
            return
        spacing, left = self._spacing(work), self.shown_window(work).start
        for band in offer.trust:
            first = max(band.start, content.first)
            last = min(band.start + len(band.deviation), content.first + len(content.shown))
            if first >= last:
                continue
            middle = content.shown[first - content.first : last - content.first]
            deviation = band.deviation[first - band.start : last - band.start]
            x = (np.arange(first, last) + 0.5 - left) * spacing
            upper, lower = (self.height_of(middle + sign * deviation, rect, low, high) for sign in (1, -1))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.theme.color("mended", 60))
            painter.drawPolygon(polyline(np.concatenate([x, x[::-1]]), np.concatenate([upper, lower[::-1]])))
            painter.setBrush(Qt.BrushStyle.NoBrush)

    def _draw_curve(self, painter: QPainter, x: Any, y: Any, color: str) -> None:
        painter.setPen(QPen(self.theme.color(color), 1))
        painter.drawPolyline(polyline(x, y))

    def _draw_dots(
        self, painter: QPainter, work: Work, content: _Content, frames: Any, x: Any, y: Any, before_y: Any, changed: Any
    ) -> None:
        radius = 2.0 if self._spacing(work) < 8 else 3.0
        paper, wrong = self.theme.color("paper"), self.theme.color("wrong")
        damaged = self._damaged(work, content, frames)
        ordinary = ~(damaged | changed)
        painter.setPen(QPen(self.theme.color("body"), 2 * radius + 1, c=Qt.PenCapStyle.RoundCap))
        painter.drawPoints(polyline(x[ordinary], y[ordinary]))
        for index in np.flatnonzero(~ordinary).tolist():
            if damaged[index] or changed[index]:
                painter.setPen(QPen(wrong if damaged[index] else self.theme.color("ghost"), 1))
                painter.setBrush(paper)
                painter.drawEllipse(QPointF(x[index], before_y[index]), radius + 0.5, radius + 0.5)
            if not damaged[index] or changed[index]:
                color = self.theme.color("mended" if changed[index] else "body")
                painter.setPen(QPen(color, 1))
                painter.setBrush(color)
                painter.drawEllipse(QPointF(x[index], y[index]), radius, radius)

    def _draw_rebuilt_label(
        self, painter: QPainter, work: Work, content: _Content, rect: QRectF, x: Any, y: Any, changed: Any
    ) -> None:
        inside = changed & (x >= 0) & (x <= self.width())
        if not inside.any() or any(tool.is_held_up for tool in self.tools):
            return
        top = int(np.argmax(np.where(inside, np.abs(content.shown), 0)))
        offer = self._viewing.mending.offer_in(work)
        nature = offer.nature if offer else NATURES[content.natures[top]]
        # What is being drawn by hand is no piece of a version yet.
        word = Nature.REBUILT if nature is Nature.ORIGINAL else nature
        text = f"{word.value} {format_db(amplitude_to_db(float(content.shown[top])))}"
        above = content.shown[top] >= 0
        label_y = y[top] - 22 if above else y[top] + 8
        label_y = min(max(rect.top(), label_y), rect.bottom() - 14)
        left = min(max(4.0, x[top] - 60), self.width() - 124)
        painter.setFont(themes.font(11, QFont.Weight.DemiBold))
        painter.setPen(self.theme.color("mended"))
        painter.drawText(QRectF(left, label_y, 120, 14), Qt.AlignmentFlag.AlignCenter, text)

    def _draw_ruler(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        painter.setFont(themes.font(11))
        painter.setPen(QPen(self.theme.color("rule"), 1))
        painter.drawLine(QPointF(0, rect.bottom() + 0.5), QPointF(self.width(), rect.bottom() + 0.5))
        painter.setPen(self.theme.color("faint"))
        free_from = 0.0
        for tick in sample_ticks(work.loupe, self.width()):
            x = round(self._center_x(tick.at)) + 0.5
            painter.drawLine(QPointF(x, rect.bottom()), QPointF(x, rect.bottom() + 5))
            # Where what is tried takes sound out, the numbers on both sides come together.
            if x >= free_from:
                painter.drawText(QPointF(x + 4, rect.bottom() + 16), tick.text)
                free_from = x + 8 + painter.fontMetrics().horizontalAdvance(tick.text)

    def _clicked(self, frame: float) -> None:
        self._bench.set_cursor(int(frame), follow=False)

    def _selected_frame(self, x: float, anchor: float, event: QMouseEvent) -> float:
        """Select whole samples: the one the drag began in and the one under the pointer both count."""
        frame = int(self.frame_at(min(max(0.0, x), self.width() - 1)))
        return self._snapped(frame + 1 if frame >= anchor else frame, event)

    # The pen.

    def value_at(self, y: float) -> float:
        """Return the sample value at a height."""
        rect = self.content_rect()
        low, high = self._bounds()
        return low + (rect.bottom() - y) * (high - low) / rect.height()

    def y_of(self, value: float) -> float:
        """Return the height of a sample value: the inverse of :meth:`value_at`."""
        return float(self.height_of(value, self.content_rect(), *self._bounds()))

    def value_of_a_pixel(self) -> float:
        """Return by how much two values differ that are a pixel apart."""
        low, high = self._bounds()
        return (high - low) / self.content_rect().height()

    def _bounds(self) -> tuple[float, float]:
        content = self._content(self._work, self.picture) if self._work else None
        return self._scale_held or (_scale(content) if content is not None and len(content.shown) else (-1.0, 1.0))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Put the pen down, or do what every strip does."""
        inside = self.content_rect().contains(event.position())
        if self._work is None or not self._drawing.is_on or not inside or event.button() != Qt.MouseButton.LeftButton:
            super().mousePressEvent(event)
            return
        self._scale_held = self._bounds()
        frame, value = self._pen(event)
        if self._drawing.begin(frame, value):
            self._pen_down = frame, value
            self._bench.set_cursor(frame, follow=False)
        else:
            self._scale_held = None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Draw on, or do what every strip does."""
        if self._pen_down is None:
            super().mouseMoveEvent(event)
            if self._drag is None and self._drawing.is_on and self.content_rect().contains(event.position()):
                self.setCursor(Qt.CursorShape.CrossCursor)
            return
        frame, value = self._pen(event)
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._drawing.line_to(frame, value, self._pen_down)
        else:
            self._drawing.draw_to(frame, value)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Lift the pen: the stroke is one step."""
        if self._pen_down is None:
            super().mouseReleaseEvent(event)
            return
        self._pen_down = None
        self._drawing.end()
        self._scale_held = None

    def _pen(self, event: QMouseEvent) -> tuple[int, float]:
        frame = int(self.frame_at(min(max(0.0, event.position().x()), self.width() - 1)))
        return frame, self.value_at(event.position().y())

    def _damaged(self, work: Work, content: _Content, frames: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
        """Return which samples an open finding covers; what lies under all of a recording makes none of them wrong."""
        mask = np.zeros(len(frames), np.bool_)
        listing = work.listing()
        bounds = [self._viewing.worked_frame(work, float(frame)) for frame in (frames[0], frames[-1] + 1)]
        for finding in listing.within(*bounds):
            if finding.kind in SPANNING_KINDS or content.channel not in finding.channels:
                continue
            if listing.state_of(finding) is State.OPEN:
                start, stop = (self._viewing.shown_frames(work, frame) for frame in (finding.start, finding.stop))
                mask |= (frames >= start) & (frames < stop)
        return mask

    def _value_at(self, work: Work, position: QPointF, frame: int) -> tuple[int, float | None, float | None]:
        picture = self.picture
        if picture is None or picture.request != self._request_of(work):
            return work.channel, None, None
        index = int(self._viewing.shown_frames(work, frame)) - picture.content.first
        shown = picture.content.shown
        return work.channel, (float(shown[index]) if 0 <= index < len(shown) else None), None


def _with_curve(
    wave: npt.NDArray[np.float64], first: int, last: int, oversampling: int
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Return some samples of a wave, and the curve through them with its context taken from the wave around."""
    if last <= first:
        return np.zeros(0), np.zeros(0)
    samples = wave[first:last]
    start, stop = max(0, first - CURVE_CONTEXT), min(len(wave), last + CURVE_CONTEXT)
    curve = band_limited(wave[start:stop, np.newaxis], oversampling)[:, 0]
    begin = (first - start) * oversampling
    return samples, curve[begin : begin + (len(samples) - 1) * oversampling + 1]


def _original_beside(version: Version, original: Version, start: int, stop: int) -> npt.NDArray[np.float32]:
    """Return the original's frames that those of a span stand for; where they stand for none, they themselves."""
    parts = [
        piece.source.read(piece.start, piece.start + piece.length)
        if piece.origin == NO_ORIGIN
        else original.read(piece.origin, piece.origin + piece.length)
        for piece, _ in version.pieces(start, stop)
    ]
    return np.concatenate(parts) if parts else np.zeros((0, version.channels), np.float32)


def _scale(content: _Content) -> tuple[float, float]:
    """Return the amplitudes at the lower and upper edge: all that is shown, zero, and some room."""
    values = np.concatenate([content.shown, content.before, content.shown_curve, [0.0]])
    low, high = float(values.min()), float(values.max())
    room = max(high - low, 1e-4) * _HEADROOM
    return low - room, high + room
