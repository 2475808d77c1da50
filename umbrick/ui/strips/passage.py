"""The Passage strip: a fraction of a second to minutes, channel by channel, with the findings above it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPen, QWheelEvent

from umbrick.core.course.laid import underneath
from umbrick.core.errors import CancelledError
from umbrick.core.sound.pyramid import Extent
from umbrick.core.survey.finding import SPANNING_KINDS, Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.provenance import rebuilt_spans
from umbrick.core.units import channel_name
from umbrick.core.view.frequency_scale import FrequencyScale
from umbrick.core.view.spectrogram import Look
from umbrick.core.view.ticks import Tick, beat_ticks, level_ticks, sample_ticks, time_ticks
from umbrick.core.view.window import Window
from umbrick.ui import theme as themes
from umbrick.ui.bench.marking import Placed
from umbrick.ui.bench.spectral_view import Face
from umbrick.ui.bench.viewing import LEVEL_STEP, Pointed, Viewing
from umbrick.ui.hand.selecting import Ruler
from umbrick.ui.icons import draw_glyph
from umbrick.ui.strips.course_picture import draw_level_change, known_tiles, level_change, measured_with_beneath
from umbrick.ui.strips.frequency_axis import AXIS_WIDTH, draw_frequencies
from umbrick.ui.strips.marker_flags import draw_flags, flag_at
from umbrick.ui.strips.provenance_row import ROW_HEIGHT, ProvenanceRow
from umbrick.ui.strips.spectrogram_layer import SpectrogramLayer
from umbrick.ui.strips.strip import RULER_HEIGHT, TITLE_HEIGHT, Picture, Strip
from umbrick.ui.strips.wave_image import Ink, WavePicture, columns_of, peak_at, to_image, wave_pixels
from umbrick.ui.strips.wave_request import WaveRequest
from umbrick.work.work import Work

RAIL_HEIGHT = 18
_GLYPH = 10
_GLYPH_SPACING = 8
_DIVIDER = 5
_PITCH_STEP = 1.2
_OVER_OPACITY = 0.72


@dataclass(frozen=True)
class _PassageRequest(WaveRequest):
    """What the Passage's picture is made from."""

    def make(self, is_overtaken: Callable[[], bool]) -> WavePicture:
        """Return the picture."""
        (width, lane), window = self.size, self.window
        start, stop = int(window.start), max(int(window.start) + 1, round(window.stop))
        extent, faint = measured_with_beneath(self.columns, self.version, start, stop, width)
        beneath = underneath(self.version)
        if is_overtaken():
            raise CancelledError
        spans = rebuilt_spans(beneath, self.original, *window.frames_in(beneath.frames))
        pixels = wave_pixels(extent, columns_of(spans, start, stop, width), lane, self.top, Ink.of(self.theme), faint)
        change_db = None
        if beneath is not self.version:
            change_db = level_change(extent, self.columns.measure(beneath, start, stop, width))
        return WavePicture(to_image(pixels, self.ratio), extent, change_db)


class PassageStrip(Strip):
    """Wheel scrolls, Ctrl+wheel zooms, Shift+wheel magnifies; a drag selects, one in the ruler moves and zooms."""

    title = "Passage"

    def __init__(self, viewing: Viewing) -> None:
        super().__init__(viewing)
        self.provenance = ProvenanceRow()
        self.flags: list[tuple[QRectF, Placed]] = []
        self._carried: tuple[Placed, float, bool] | None = None
        """The marker that is being dragged, the frame it was taken at, and whether only its end moves."""
        viewing.fit_wanted.connect(self._fit_levels)
        self._spectral = viewing.spectral
        self.spectrum = SpectrogramLayer(self, self._bench)
        self._dividing = False
        self._pitch_from: tuple[QPointF, FrequencyScale] | None = None
        """Where the frequencies at the side were taken hold of, and what was shown then."""
        self.setMinimumHeight(TITLE_HEIGHT + RAIL_HEIGHT + RULER_HEIGHT + 60)

    def window_of(self, work: Work) -> Window:
        """Return the span shown."""
        return work.passage

    def set_window(self, window: Window) -> None:
        """Show another span."""
        self._bench.set_passage(window)

    def zoom(self, factor: float, anchor: float) -> None:
        """Zoom about a frame."""
        self._bench.zoom_passage(factor, anchor)

    def body_rect(self) -> QRectF:
        """Return where waveform and spectrogram are."""
        top = TITLE_HEIGHT + RAIL_HEIGHT
        return QRectF(0, top, self.width(), max(8, self.height() - top - RULER_HEIGHT - ROW_HEIGHT - 4))

    def content_rect(self) -> QRectF:
        """Return where the waveform is: above the spectrogram, if both are shown, and else in all of it."""
        body = self.body_rect()
        if self._spectral.face is Face.BOTH:
            body.setHeight(round(body.height() * self._spectral.divider))
        return body

    def spectrum_rect(self) -> QRectF | None:
        """Return where the spectrogram is, or None if there is none."""
        if not self._spectral.face.has_spectrum:
            return None
        body = self.body_rect()
        if self._spectral.face is Face.BOTH:
            body.setTop(self.content_rect().bottom() + _DIVIDER)
        return body

    def content_bottom(self) -> float:
        """Return where the ruler begins."""
        return self.body_rect().bottom()

    @property
    def is_idle(self) -> bool:
        """Whether the pictures on screen are those that belong there."""
        return super().is_idle and self.spectrum.is_idle

    def close_renderer(self) -> None:
        """Stop drawing for good."""
        super().close_renderer()
        self.spectrum.close()

    def scale(self, work: Work) -> FrequencyScale:
        """Return the frequencies along the spectrogram's height."""
        return self._spectral.scale(work.rate)

    def is_on_axis(self, position: QPointF) -> bool:
        """Whether a place is at the side of the spectrogram, where its frequencies are taken hold of."""
        return self._place_in_spectrum(position.y()) is not None and position.x() >= self.width() - AXIS_WIDTH

    def hz_at(self, y: float) -> float | None:
        """Return the frequency at a height in the spectrogram, or None outside of it."""
        place = self._place_in_spectrum(y)
        return float(self._spectral.scale(self._work.rate).hz_at(place[1])) if place and self._work else None

    def y_of_hz(self, hz: npt.ArrayLike, channel: int = 0) -> npt.NDArray[np.float64]:
        """Return where frequencies of a channel are drawn."""
        rect, work = self.spectrum_rect(), self._work
        if rect is None or work is None:
            return np.zeros(np.shape(hz))
        lane = self.lanes(work, rect)[channel]
        return np.asarray(lane.bottom() - self._spectral.scale(work.rate).share_of(hz) * lane.height())

    def _place_in_spectrum(self, y: float) -> tuple[int, float] | None:
        """Return the channel and the share of the height from below, at a height of the strip."""
        rect, work = self.spectrum_rect(), self._work
        if rect is None or work is None or not rect.top() <= y < rect.bottom():
            return None
        lanes = self.lanes(work, rect)
        channel = min(int((y - rect.top()) / lanes[0].height()), len(lanes) - 1)
        return channel, min(max(0.0, (lanes[channel].bottom() - y) / lanes[channel].height()), 1.0)

    def provenance_top(self) -> float:
        """Return the upper edge of the provenance row."""
        return self.body_rect().bottom() + 3

    def _request_of(self, work: Work) -> _PassageRequest:
        ratio, rect = self.devicePixelRatioF(), self.content_rect()
        version, window = self.shown_version(work), self.shown_window(work)
        return _PassageRequest(
            version,
            window,
            (max(1, round(rect.width() * ratio)), max(4, int(rect.height() * ratio / work.channels))),
            ratio,
            self._viewing.passage_top(work),
            self.theme,
            (work.pyramid.measured_frames, known_tiles(version, window, self.width())),
            work.columns,
            work.history.original,
        )

    def fit_spectrum(self) -> None:
        """Draw the spectrogram from what is faint in view to what is loudest."""
        if (fitting := self.spectrum.fitting_range_db()) is not None:
            self._spectral.set_range(*fitting)

    def _fit_levels(self) -> None:
        if self.picture is not None:
            extent: Extent = self.picture.content.extent
            known = extent.low <= extent.high
            if known.any():
                self._viewing.fit_levels(float(np.maximum(-extent.low, extent.high)[known].max()))

    def wheelEvent(self, event: QWheelEvent) -> None:
        """With Shift, magnify the levels, or over the spectrogram its frequencies; with Alt scroll these; else do what
        every strip does."""
        place = self._place_in_spectrum(event.position().y())
        steps = (event.angleDelta().y() or event.angleDelta().x()) / 120
        if place and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self._spectral.scroll(steps / 8)
            event.accept()
        elif place and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._spectral.zoom(_PITCH_STEP**-steps, place[1])
            event.accept()
        elif self._work is not None and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._viewing.magnify(LEVEL_STEP**steps)
            event.accept()
        else:
            super().wheelEvent(event)

    def _paint(self, painter: QPainter, work: Work, picture: Picture | None) -> None:
        rect, spectrum = self.content_rect(), self.spectrum_rect()
        if spectrum is not None:
            self._paint_spectrum(painter, work, spectrum)
        else:
            self.spectrum.forget()
        if self._spectral.face.has_wave:
            self._paint_wave(painter, work, picture, rect)
        self._draw_rail(painter, work)
        for part in (rect, spectrum) if self._spectral.face is Face.BOTH and spectrum else (rect,):
            self._draw_focus(painter, work, part)
            self._draw_selection(painter, work, part)
        placed, chosen = self._viewing.marking.placed(), self._viewing.marking.chosen
        self.flags = draw_flags(painter, placed, chosen, rect, self.theme, self.x_of)
        self._draw_tools(painter, work, rect)
        body = self.body_rect()
        self._draw_cursor(painter, work, QRectF(rect.x(), TITLE_HEIGHT, rect.width(), body.bottom() - TITLE_HEIGHT))
        self._draw_loupe_frame(painter, work, body)
        self.provenance.draw(painter, work, work.passage, self.provenance_top(), self.width(), self.theme)
        self._draw_ruler(painter, work)

    def _paint_wave(self, painter: QPainter, work: Work, picture: Picture | None, rect: QRectF) -> None:
        is_over = self._spectral.face is Face.OVER
        painter.save()
        if is_over:
            # Paper lets the spectrogram through; the wave is laid over it.
            is_light = self.theme is themes.DAYLIGHT
            modes = QPainter.CompositionMode
            painter.setCompositionMode(modes.CompositionMode_Darken if is_light else modes.CompositionMode_Lighten)
            painter.setOpacity(_OVER_OPACITY)
        if picture:
            self._draw_image(painter, picture.content.image, self.shown_window(work), picture.window, rect)
        painter.restore()
        if picture and picture.content.change_db is not None:
            draw_level_change(painter, picture.content.change_db, rect, self.theme)
        if not is_over:
            self._draw_levels(painter, work, rect)

    def _paint_spectrum(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        view, ratio = self._spectral, self.devicePixelRatioF()
        lanes = self.lanes(work, rect)
        scale = view.scale(work.rate)
        look = Look(scale, max(4, int(lanes[0].height() * ratio)), view.length, view.sharpening)
        self.spectrum.want(
            self.shown_version(work),
            tuple(range(work.channels)),
            self.shown_window(work),
            (max(1, round(rect.width() * ratio)), ratio),
            look,
            (self.theme, view.wash, view.floor_db, view.ceiling_db),
        )
        whole = QRectF(rect.x(), rect.y(), rect.width(), lanes[0].height() * len(lanes))
        self.spectrum.draw(painter, self.shown_window(work), whole)
        draw_frequencies(painter, lanes, scale, self.theme)
        if view.face is Face.BOTH:
            y = rect.top() - _DIVIDER
            painter.fillRect(QRectF(0, y, rect.width(), _DIVIDER), self.theme.color("desk"))
            painter.fillRect(QRectF(rect.center().x() - 14, y + 1.5, 28, 2), self.theme.color("ghost"))

    def lanes(self, work: Work, rect: QRectF) -> list[QRectF]:
        """Return where each channel is drawn in a rectangle."""
        height = int(rect.height() / work.channels)
        return [QRectF(rect.x(), rect.y() + c * height, rect.width(), height) for c in range(work.channels)]

    def _selection_rects(self, work: Work, rect: QRectF) -> list[QRectF]:
        lanes = self.lanes(work, rect)
        return [lanes[channel] for channel in work.selected_channels]

    def _draw_levels(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        top = self._viewing.passage_top(work)
        painter.setFont(themes.font(10))
        for channel, lane in enumerate(self.lanes(work, rect)):
            middle, half = lane.center().y(), lane.height() / 2
            for tick in level_ticks(top, half, spacing=24):
                is_full = tick.text == "0"
                painter.setPen(
                    QPen(
                        self.theme.color("wrong" if is_full else "rule", 255 if is_full else 150),
                        1,
                        Qt.PenStyle.SolidLine if is_full else Qt.PenStyle.DotLine,
                    )
                )
                for sign in (-1, 1):
                    y = round(middle + sign * tick.at * half / top) + 0.5
                    painter.drawLine(QPointF(lane.left(), y), QPointF(lane.right(), y))
                painter.setPen(self.theme.color("wrong" if is_full else "faint"))
                y = middle - tick.at * half / top
                text = "0 dBFS" if is_full else tick.text
                wide = 44 if is_full else 22
                painter.fillRect(
                    QRectF(lane.right() - 4 - wide, y + 1 if is_full else y - 6.5, wide, 13),
                    self.theme.color("paper", 210),
                )
                painter.drawText(
                    QRectF(lane.right() - 60, y + 1 if is_full else y - 6.5, 54, 13), Qt.AlignmentFlag.AlignRight, text
                )
            painter.setPen(QPen(self.theme.color("rule"), 1))
            painter.drawLine(QPointF(lane.left(), round(middle) + 0.5), QPointF(lane.right(), round(middle) + 0.5))
            if channel:
                painter.drawLine(QPointF(lane.left(), lane.top() + 0.5), QPointF(lane.right(), lane.top() + 0.5))
            if work.channels > 1:
                painter.setPen(self.theme.color("faint"))
                painter.drawText(QPointF(10, lane.top() + 14), channel_name(channel, work.channels))

    def _draw_rail(self, painter: QPainter, work: Work) -> None:
        painter.fillRect(QRectF(0, TITLE_HEIGHT, self.width(), RAIL_HEIGHT), self.theme.color("desk"))
        listing = work.listing()
        shown = self._shown(work)
        # Where many lie close together, the first in each few pixels stands for them.
        x = self._glyph_x(shown)
        drawn = np.unique(np.floor(x / _GLYPH_SPACING), return_index=True)[1].tolist()
        if work.focus in shown:
            drawn.append(shown.index(work.focus))
        for index in drawn:
            finding = shown[index]
            family = KINDS[finding.kind].family
            if finding is work.focus:
                rail = QRectF(x[index] - 8, TITLE_HEIGHT, 16, RAIL_HEIGHT)
                painter.fillRect(rail, self.theme.color("selection", 120))
            is_open = listing.state_of(finding) is State.OPEN
            color = self.theme.family(family) if is_open else self.theme.color("mended")
            draw_glyph(painter, family, QPointF(x[index], TITLE_HEIGHT + RAIL_HEIGHT / 2), _GLYPH, color, is_open)

    def _provenance_tip_at(self, work: Work, position: QPointF) -> str:
        if abs(position.y() - self.provenance_top() - ROW_HEIGHT / 2) > ROW_HEIGHT:
            return ""
        per_pixel = self.window_of(work).length / max(1, self.width())
        return self.provenance.text_at(work, self.frame_at(position.x()), per_pixel)

    def _shown(self, work: Work) -> Sequence[Finding]:
        return work.listing().within(work.passage.start, work.passage.stop)

    def _glyph_x(self, findings: Sequence[Finding]) -> npt.NDArray[np.float64]:
        middles = np.array([(finding.start + finding.stop) / 2 for finding in findings])
        return np.asarray(self.x_of(middles))

    def _draw_focus(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        if work.focus and work.focus.kind not in SPANNING_KINDS:
            lane = self.lanes(work, rect)[work.focus.channels[0]]
            left, right = self.x_of(work.focus.start), self.x_of(work.focus.stop)
            painter.fillRect(
                QRectF(left, lane.y(), max(1.0, right - left), lane.height()), self.theme.color("wrong", 50)
            )

    def _draw_loupe_frame(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        """Mark below the waveform where the Loupe looks."""
        left, right = self.x_of(work.loupe.start), self.x_of(work.loupe.stop)
        painter.fillRect(QRectF(left, rect.bottom() - 1, max(3.0, right - left), 3), self.theme.color("mended"))

    def ruler_ticks(self, work: Work) -> list[Tick]:
        """Return the marks of the ruler, which counts time, samples or beats."""
        selecting = self._viewing.selecting
        if selecting.ruler is Ruler.SAMPLES:
            return sample_ticks(work.passage, self.width())
        if selecting.ruler is Ruler.BEATS:
            return beat_ticks(work.passage, work.rate, selecting.tempo, self.width())
        return time_ticks(work.passage, work.rate, self.width())

    def _draw_ruler(self, painter: QPainter, work: Work) -> None:
        painter.setFont(themes.font(11))
        y = self.height() - RULER_HEIGHT
        painter.setPen(QPen(self.theme.color("rule"), 1))
        painter.drawLine(QPointF(0, y + 0.5), QPointF(self.width(), y + 0.5))
        painter.setPen(QPen(self.theme.color("faint"), 1))
        ticks = self.ruler_ticks(work)
        xs = np.round(self.x_of(np.array([tick.at for tick in ticks], float))) + 0.5
        for tick, x in zip(ticks, xs.tolist(), strict=True):
            painter.drawLine(QPointF(x, y), QPointF(x, y + (7 if tick.text else 4)))
            if tick.text:
                painter.drawText(QPointF(x + 4, y + 16), tick.text)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """A click on a glyph goes to its finding; a click in a lane shows its channel in the Loupe."""
        work = self._work
        y = event.position().y()
        if work and self._press_tool(event):
            return
        if work and event.button() == Qt.MouseButton.LeftButton and self._press_spectrum(work, event):
            return
        if work and (carried := flag_at(self.flags, event.position())):
            self._viewing.marking.choose(carried.marker.id)
            ends_only = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._carried = carried, self.frame_at(event.position().x()), ends_only
            return
        if work and TITLE_HEIGHT <= y < TITLE_HEIGHT + RAIL_HEIGHT:
            shown = self._shown(work)
            distance = np.abs(self._glyph_x(shown) - event.position().x())
            if len(shown) and distance.min() <= _GLYPH:
                self._bench.focus(shown[int(distance.argmin())])
                return
        if work and work.channels > 1 and event.button() == Qt.MouseButton.LeftButton:
            self._bench.set_channel(self.channel_at(work, y))
        super().mousePressEvent(event)

    def _go_to(self, work: Work, position: QPointF) -> None:
        """Go to the finding under the pointer, or what every strip does."""
        shown = self._shown(work)
        frame = self.frame_at(position.x())
        in_rail = TITLE_HEIGHT <= position.y() < TITLE_HEIGHT + RAIL_HEIGHT
        if in_rail and len(shown):
            distance = np.abs(self._glyph_x(shown) - position.x())
            if distance.min() <= _GLYPH:
                self._bench.focus(shown[int(distance.argmin())])
                return
        under = [f for f in shown if f.start <= frame < f.stop and f.kind not in SPANNING_KINDS]
        if under and work.selection is None:
            self._bench.focus(min(under, key=lambda f: f.stop - f.start))
        else:
            super()._go_to(work, position)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Carry a marker or the divider along, or do what every strip does."""
        if self._dividing:
            body = self.body_rect()
            self._spectral.divide((event.position().y() - body.top()) / body.height())
            return
        if self._pitch_from is not None:
            self._move_frequencies(event)
            return
        if self._carried is None:
            super().mouseMoveEvent(event)
            if self._drag is None and self._tool is None and (shape := self._shape_in_spectrum(event.position())):
                self.setCursor(shape)
            return
        if moved := self._carried_to(event):
            placed, start, stop = moved
            placed.start, placed.stop = start, stop
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Put a marker down, or do what every strip does."""
        if self._dividing or self._pitch_from is not None:
            self._dividing, self._pitch_from = False, None
            return
        if self._carried is None:
            super().mouseReleaseEvent(event)
            return
        placed, *_ = self._carried
        self._carried = None
        self._viewing.marking.move(placed.marker, placed.start, placed.stop)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Name the marker under the pointer."""
        if flag_at(self.flags, event.position()):
            self._carried = None
            self._viewing.marking.naming_wanted.emit()
        else:
            super().mouseDoubleClickEvent(event)

    def _press_spectrum(self, work: Work, event: QMouseEvent) -> bool:
        """Take hold of the divider, or of the frequencies at the side; whether one of them was there."""
        position = event.position()
        if self._is_on_divider(position):
            self._dividing = True
            return True
        if self.is_on_axis(position):
            self._pitch_from = position, self._spectral.scale(work.rate)
            return True
        return False

    def _move_frequencies(self, event: QMouseEvent) -> None:
        """Scroll the frequencies along with the pointer; to the side is closer or further."""
        rect, work = self.spectrum_rect(), self._work
        if rect is None or work is None or self._pitch_from is None:
            return
        origin, scale = self._pitch_from
        lane = self.lanes(work, rect)[0].height()
        moved = event.position() - origin
        share = ((rect.bottom() - origin.y()) % lane) / lane
        self._spectral.show_scale(scale.zoomed(1.01 ** moved.x(), share).scrolled(moved.y() / lane))

    def _is_on_divider(self, position: QPointF) -> bool:
        if self._spectral.face is not Face.BOTH:
            return False
        return abs(position.y() - self.content_rect().bottom() - _DIVIDER / 2) <= _DIVIDER

    def _shape_in_spectrum(self, position: QPointF) -> Qt.CursorShape | None:
        if self._is_on_divider(position):
            return Qt.CursorShape.SizeVerCursor
        if self.is_on_axis(position):
            return Qt.CursorShape.SizeAllCursor
        return None

    def _carried_to(self, event: QMouseEvent) -> tuple[Placed, int, int] | None:
        if self._carried is None or self._work is None:
            return None
        placed, taken_at, ends_only = self._carried
        frame = self.frame_at(min(max(0.0, event.position().x()), self.width()))
        frames = self._work.frames
        if ends_only:
            return placed, placed.start, min(max(placed.start, round(frame)), frames)
        moved = round(frame - taken_at)
        length = placed.stop - placed.start
        start = min(max(0, placed.start + moved), frames - length)
        self._carried = placed, taken_at + start - placed.start, ends_only
        return placed, start, start + length

    def _tip_at(self, work: Work, position: QPointF) -> str:
        if marked := flag_at(self.flags, position):
            return "\n".join(filter(None, (marked.marker.name, marked.marker.note)))
        if text := self._tool_tip_at(position):
            return text
        return self._provenance_tip_at(work, position)

    def _point(self, work: Work, position: QPointF) -> None:
        place = self._place_in_spectrum(position.y())
        frame = int(self.frame_at(position.x()))
        if place is None or not 0 <= frame < work.frames:
            super()._point(work, position)
            return
        channel, share = place
        hz = float(self._spectral.scale(work.rate).hz_at(share))
        shown = self.shown_window(work).frame_at(position.x(), self.width())
        self._viewing.point(Pointed(frame, channel, None, None, hz, self.spectrum.level_db_at(channel, shown, share)))

    def channel_at(self, work: Work, y: float) -> int:
        """Return the channel at a height of the strip."""
        if place := self._place_in_spectrum(y):
            return place[0]
        lanes = self.lanes(work, self.content_rect())
        return min(range(work.channels), key=lambda c: abs(lanes[c].center().y() - y))

    def _value_at(self, work: Work, position: QPointF, frame: int) -> tuple[int, float | None, float | None]:
        channel = self.channel_at(work, position.y())
        if self.picture is None or self.picture.window != self.shown_window(work):
            return channel, None, None
        share = position.x() / max(1, self.width())
        return channel, None, peak_at(self.picture.content.extent, share, channel)
