"""The Whole strip: the entire recording, where findings lie, what was rebuilt, and where the Passage looks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPen, QWheelEvent

from umbrick.core.course.laid import underneath
from umbrick.core.sound.pyramid import Extent
from umbrick.core.survey.finding import Family, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.provenance import rebuilt_spans
from umbrick.core.view.spectrogram import Look
from umbrick.core.view.window import Window
from umbrick.ui.bench.bench import SHORTEST_PASSAGE_SECONDS
from umbrick.ui.bench.viewing import Viewing
from umbrick.ui.strips.course_picture import known_tiles, measured_with_beneath
from umbrick.ui.strips.frequency_axis import draw_frequencies
from umbrick.ui.strips.provenance_row import ROW_HEIGHT, ProvenanceRow
from umbrick.ui.strips.spectrogram_layer import SpectrogramLayer
from umbrick.ui.strips.strip import TITLE_HEIGHT, ZOOM_STEP, Picture, Strip
from umbrick.ui.strips.wave_image import Ink, WavePicture, columns_of, peak_at, to_image, wave_pixels
from umbrick.ui.strips.wave_request import WaveRequest
from umbrick.work.listing import CODES
from umbrick.work.work import Work

_ROW = 5
_FOOT = len(Family) * _ROW + ROW_HEIGHT + 9
_EDGE = 5

_Ticks = tuple[Family, bool, list[int]]
"""A family's findings, open or not: the pixels where there are any."""


@dataclass(frozen=True)
class _WholeRequest(WaveRequest):
    """What the Whole's picture is made from; ``sketch`` stands for what is not measured yet."""

    sketch: Extent | None = field(compare=False)

    def make(self, is_overtaken: Callable[[], bool]) -> WavePicture:
        """Return the picture."""
        (width, height), frames = self.size, max(1, self.version.frames)
        measured, faint = measured_with_beneath(self.columns, self.version, 0, frames, width)
        extent = _together(measured)
        if self.sketch is not None:
            _fill_in(extent, _together(self.sketch))
        rebuilt = columns_of(rebuilt_spans(underneath(self.version), self.original), 0, self.version.frames, width)
        pixels = wave_pixels(extent, rebuilt, height, self.top, Ink.of(self.theme), faint)
        return WavePicture(to_image(pixels, self.ratio), extent)


class WholeStrip(Strip):
    """Drag the frame to move the Passage, its edges to zoom it, or click to go somewhere."""

    title = "Whole"

    def __init__(self, viewing: Viewing) -> None:
        super().__init__(viewing)
        self._density: tuple[Any, Any, list[tuple[int, _Ticks]]] | None = None
        self.provenance = ProvenanceRow()
        self._spectral = viewing.spectral
        self.spectrum = SpectrogramLayer(self, self._bench)
        self.setMinimumHeight(TITLE_HEIGHT + _FOOT + 40)

    def window_of(self, work: Work) -> Window:
        """Return the whole recording."""
        return Window(0, max(1, work.frames))

    def shown_window(self, work: Work) -> Window:
        """Return the whole of the version that is shown."""
        return Window(0, max(1, self._viewing.shown_version(work).frames))

    def content_rect(self) -> QRectF:
        """Return where the waveform is."""
        return QRectF(0, TITLE_HEIGHT, self.width(), max(8, self.height() - TITLE_HEIGHT - _FOOT))

    def _request_of(self, work: Work) -> _WholeRequest:
        ratio, rect = self.devicePixelRatioF(), self.content_rect()
        version = self.shown_version(work)
        is_sketched = work.sketch is not None and not work.pyramid.is_complete
        return _WholeRequest(
            version,
            self.shown_window(work),
            (max(1, round(rect.width() * ratio)), max(8, round(rect.height() * ratio))),
            ratio,
            round(self._viewing.shown_top(work), 3),
            self.theme,
            (work.pyramid.measured_frames, known_tiles(version)),
            work.columns,
            work.history.original,
            work.sketch if is_sketched else None,
        )

    def _paint(self, painter: QPainter, work: Work, picture: Picture | None) -> None:
        rect = self.content_rect()
        if self._spectral.whole:
            self._paint_spectrum(painter, work, rect)
        else:
            self.spectrum.forget()
            if picture:
                self._draw_image(painter, picture.content.image, self.shown_window(work), picture.window, rect)
        self._draw_density(painter, work, rect.bottom() + 4)
        self.provenance.draw(painter, work, self.window_of(work), self.provenance_top(), self.width(), self.theme)
        for placed in self._viewing.marking.placed():
            x, width = self.x_of(placed.start), max(1.0, self.x_of(placed.stop) - self.x_of(placed.start))
            painter.fillRect(QRectF(x, rect.top(), width, 5), self.theme.color("ink", 160))
        self._draw_selection(painter, work, rect)
        self._draw_cursor(painter, work, rect)
        frame = self._passage_rect(work)
        painter.fillRect(frame, self.theme.color("mended", 26))
        painter.setPen(QPen(self.theme.color("mended"), 1))
        painter.drawRect(frame.adjusted(0.5, 0.5, -0.5, -0.5))

    @property
    def is_idle(self) -> bool:
        """Whether the pictures on screen are those that belong there."""
        return super().is_idle and self.spectrum.is_idle

    def close_renderer(self) -> None:
        """Stop drawing for good."""
        super().close_renderer()
        self.spectrum.close()

    def _paint_spectrum(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        view, ratio = self._spectral, self.devicePixelRatioF()
        window, scale = self.shown_window(work), view.whole_scale(work.rate)
        rows = max(4, int(rect.height() * ratio))
        width = max(1, round(rect.width() * ratio))
        ink = self.theme, view.wash, view.floor_db, view.ceiling_db
        self.spectrum.want(self.shown_version(work), (work.channel,), window, (width, ratio), Look(scale, rows), ink)
        self.spectrum.draw(painter, window, rect)
        draw_frequencies(painter, [rect], scale, self.theme)

    def provenance_top(self) -> float:
        """Return the upper edge of the provenance row."""
        return self.content_rect().bottom() + 4 + len(Family) * _ROW + 2

    def _tip_at(self, work: Work, position: QPointF) -> str:
        if abs(position.y() - self.provenance_top() - ROW_HEIGHT / 2) > ROW_HEIGHT:
            return ""
        per_pixel = self.window_of(work).length / max(1, self.width())
        return self.provenance.text_at(work, self.frame_at(position.x()), per_pixel)

    def _passage_rect(self, work: Work) -> QRectF:
        left, right = self.x_of(work.passage.start), self.x_of(work.passage.stop)
        return QRectF(left, TITLE_HEIGHT - 2, max(3.0, right - left), self.height() - TITLE_HEIGHT)

    def _draw_density(self, painter: QPainter, work: Work, top: float) -> None:
        """Draw one tick a pixel for each family that has findings there."""
        for row, (family, is_open, columns) in self._ticks(work):
            color = self.theme.family(family)
            color.setAlpha(255 if is_open else 90)
            for x in columns:
                painter.fillRect(QRectF(x, top + row * _ROW, 1, _ROW - 1), color)

    def _ticks(self, work: Work) -> list[tuple[int, _Ticks]]:
        listing = work.listing()
        key = (id(listing), work.frames, self.width())
        if self._density is None or self._density[0] != key:
            ticks: list[tuple[int, _Ticks]] = []
            table, rows = listing.table, listing.rows
            family_of_kind = np.array([list(Family).index(KINDS[name].family) for name in table.kind_names], np.int64)
            families = family_of_kind[table.kinds[rows]] if len(rows) else rows
            spans = np.stack([table.starts[rows], table.stops[rows]], axis=1)
            opened = listing.codes[rows] == CODES[State.OPEN]
            for row, family in enumerate(Family):
                for is_open in (False, True):
                    own = (families == row) & (opened == is_open)
                    marked = columns_of(spans[own], 0, max(1, work.frames), max(1, self.width()))
                    ticks.append((row, (family, is_open, np.flatnonzero(marked).tolist())))
            # The listing is kept with it, so that its identity stays its own.
            self._density = (key, listing, ticks)
        return self._density[2]

    def set_window(self, window: Window) -> None:
        """The Whole always shows everything."""

    def zoom(self, factor: float, anchor: float) -> None:
        """Zoom the Passage instead."""
        self._bench.zoom_passage(factor, anchor)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Move the Passage; with Ctrl, zoom it about the pointer."""
        if (work := self._work) is None:
            return
        steps = event.angleDelta().y() / 120
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(ZOOM_STEP**-steps, self.frame_at(event.position().x()))
        else:
            self._bench.set_passage(work.passage.scrolled(-steps * work.passage.length / 4, work.frames))
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of the frame or one of its edges, or go to the place."""
        if (work := self._work) is None or self._begin_scrub(event) or event.button() != Qt.MouseButton.LeftButton:
            return
        x = event.position().x()
        part = self._part_at(work, x)
        if part == "outside":
            self._bench.set_passage(work.passage.centred(self.frame_at(x), work.frames))
            self._bench.set_cursor(self.frame_at(x))
            part = "inside"
        self._drag = (part, event.position(), work.passage)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Move or resize the frame."""
        if (work := self._work) is None:
            return
        self._point(work, event.position())
        if self._go_on_scrubbing(event):
            return
        if self._drag is None:
            part = self._part_at(work, event.position().x())
            shapes = {
                "left": Qt.CursorShape.SizeHorCursor,
                "right": Qt.CursorShape.SizeHorCursor,
                "inside": Qt.CursorShape.OpenHandCursor,
            }
            self.setCursor(shapes.get(part, Qt.CursorShape.ArrowCursor))
            return
        part, origin, held = self._drag
        moved = (event.position().x() - origin.x()) * work.frames / max(1, self.width())
        shortest = min(work.frames, SHORTEST_PASSAGE_SECONDS * work.rate)
        if part == "left":
            self._bench.set_passage(Window(min(max(0, held.start + moved), held.stop - shortest), held.stop))
        elif part == "right":
            self._bench.set_passage(Window(held.start, max(min(work.frames, held.stop + moved), held.start + shortest)))
        else:
            self._bench.set_passage(held.scrolled(moved, work.frames))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go of the frame."""
        if not self._end_scrub(event):
            self._drag = None

    def _part_at(self, work: Work, x: float) -> str:
        frame = self._passage_rect(work)
        if frame.width() > 4 * _EDGE or not frame.left() <= x <= frame.right():
            if abs(x - frame.left()) <= _EDGE:
                return "left"
            if abs(x - frame.right()) <= _EDGE:
                return "right"
        return "inside" if frame.left() <= x <= frame.right() else "outside"

    def _value_at(self, work: Work, position: QPointF, frame: int) -> tuple[int, float | None, float | None]:
        return (
            0,
            None,
            (peak_at(self.picture.content.extent, position.x() / max(1, self.width())) if self.picture else None),
        )


def _together(extent: Extent) -> Extent:
    """Return the extent over all channels as one."""
    return Extent(
        extent.low.min(axis=1, keepdims=True),
        extent.high.max(axis=1, keepdims=True),
        extent.mean_square.mean(axis=1, keepdims=True),
    )


def _fill_in(extent: Extent, sketch: Extent) -> None:
    """Put the sketch where nothing has been measured yet."""
    count = len(extent.low)
    source = np.arange(count) * len(sketch.low) // count
    unknown = extent.low[:, 0] > extent.high[:, 0]
    for held, coarse in zip(extent, sketch, strict=True):
        held[unknown] = coarse[source[unknown]]
