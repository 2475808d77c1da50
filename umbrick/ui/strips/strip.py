"""What all strips share: a window on the recording, the pointer, and what is drawn over the picture."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QFont, QHelpEvent, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from umbrick.core.timeline.version import Version
from umbrick.core.view.window import Window
from umbrick.ui import theme as themes
from umbrick.ui.bench.viewing import Pointed, Viewing
from umbrick.ui.strips.renderer import Renderer, Request
from umbrick.work.work import Work

if TYPE_CHECKING:
    from umbrick.ui.strips.tool import Tool

TITLE_HEIGHT = 20
RULER_HEIGHT = 22
ZOOM_STEP = 1.2
SNAP_PIXELS = 8
DRAG_PIXELS = 3
"""From how far on a press of the pointer is a drag."""


class StripRequest(Request, Protocol):
    """What a strip's picture depends on."""

    @property
    def window(self) -> Window:
        """The span it shows."""
        ...


@dataclass(frozen=True)
class Picture:
    """A finished background: what it was made from, and what was made."""

    request: StripRequest
    content: Any

    @property
    def window(self) -> Window:
        """The span it shows."""
        return self.request.window


class Strip(QWidget):
    """A strip shows one window of the current recording and lets the pointer move, zoom and select in it."""

    title = ""
    menu_wanted = Signal(QPoint)
    """The person asks what can be done at the cursor, with the pointer at this place on the screen."""

    def __init__(self, viewing: Viewing, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._viewing = viewing
        self._bench = viewing.bench
        self.theme = themes.DAYLIGHT
        self.picture: Picture | None = None
        self._asked: StripRequest | None = None
        self._drag: tuple[str, QPointF, Any] | None = None
        self.tools: list[Tool] = []
        """What lies over the waveform and can be taken hold of, the topmost first."""
        self._tool: Tool | None = None
        self._right_from: QPointF | None = None
        """Where the right button was pressed, while it is held."""
        self._renderer = Renderer(self)
        self._renderer.ready.connect(self._take)
        self._renderer.failed.connect(self._bench.failed)
        self._renderer.fault.connect(self._bench.jobs.fault)
        self._ask = QTimer(self, singleShot=True)
        self._ask.timeout.connect(self._request)
        self.installEventFilter(self)
        self._bench.recording_changed.connect(self._forget_picture)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(self.title)
        for signal in (
            self._bench.recording_changed,
            self._bench.edited,
            self._bench.learned,
            self._bench.view_changed,
            self._bench.place_changed,
            self._bench.findings_changed,
            self._bench.focus_changed,
            viewing.shown_changed,
            viewing.playhead_moved,
            viewing.coursing.grown,
        ):
            signal.connect(self.update)

    @property
    def is_idle(self) -> bool:
        """Whether the picture on screen is the one that belongs there."""
        return self._renderer.is_idle and (
            self._work is None or (self.picture is not None and self.picture.request == self._request_of(self._work))
        )

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.theme = theme
        self.update()

    def close_renderer(self) -> None:
        """Stop drawing for good."""
        self._renderer.close()

    @property
    def _work(self) -> Work | None:
        return self._bench.work

    def shown_version(self, work: Work) -> Version:
        """Return the version to be drawn."""
        return self._viewing.shown_version(work)

    # What a strip defines.

    def window_of(self, work: Work) -> Window:
        """Return the span shown."""
        raise NotImplementedError

    def set_window(self, window: Window) -> None:
        """Show another span."""
        raise NotImplementedError

    def zoom(self, factor: float, anchor: float) -> None:
        """Zoom about a frame."""
        raise NotImplementedError

    def content_rect(self) -> QRectF:
        """Return where the waveform is."""
        return QRectF(0, TITLE_HEIGHT, self.width(), max(8, self.height() - TITLE_HEIGHT - RULER_HEIGHT))

    def content_bottom(self) -> float:
        """Return where the ruler begins."""
        return self.content_rect().bottom()

    def _request_of(self, work: Work) -> StripRequest:
        """Return all that the picture depends on which belongs here now."""
        raise NotImplementedError

    def _paint(self, painter: QPainter, work: Work, picture: Picture | None) -> None:
        raise NotImplementedError

    # Places.

    def shown_window(self, work: Work) -> Window:
        """Return the span of the version that is shown: the same sound in its middle, wherever that is there."""
        window = self.window_of(work)
        middle = (window.start + window.stop) / 2
        moved = self._viewing.shown_frames(work, middle) - middle
        return Window(window.start + moved, window.stop + moved) if moved else window

    def x_of(self, frame: Any) -> Any:
        """Return the pixel of a frame's beginning; for an array of frames, an array."""
        work = self._work
        if work is None:
            return 0.0
        return self.shown_window(work).x_of(self._viewing.shown_frames(work, frame), self.width())

    def frame_at(self, x: float) -> float:
        """Return the frame at a pixel."""
        work = self._work
        if work is None:
            return 0.0
        return self._viewing.worked_frame(work, self.shown_window(work).frame_at(x, self.width()))

    # Painting.

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw what is ready, and ask for what is not."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.theme.color("paper"))
        work = self._work
        if work is None:
            return
        if self.picture is None or self.picture.request != self._request_of(work):
            # After all strips have painted: a picture in the making would only slow them down.
            self._ask.start(0)
        self._paint(painter, work, self.picture)
        painter.setFont(themes.font(11, QFont.Weight.DemiBold))
        painter.setPen(self.theme.color("faint"))
        painter.drawText(QRectF(10, 0, 200, TITLE_HEIGHT), Qt.AlignmentFlag.AlignVCenter, self.title.upper())
        if self.hasFocus():
            painter.setPen(QPen(self.theme.color("mended"), 1))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _forget_picture(self) -> None:
        """What is drawn is of another recording now, which may have other channels."""
        self.picture = self._asked = None

    def _request(self) -> None:
        """Have the picture made that belongs here now."""
        work = self._work
        if work is not None:
            self._asked = self._request_of(work)
            self._renderer.request(self._asked)

    def _take(self, request: StripRequest, content: Any) -> None:
        if request == self._asked:
            self.picture = Picture(request, content)
        self.update()

    def _draw_image(self, painter: QPainter, image: QImage, window: Window, made_for: Window, rect: QRectF) -> None:
        """Draw a picture where its window lies in the window shown now."""
        if window == made_for and abs(image.width() / image.devicePixelRatio() - rect.width()) < 1:
            painter.drawImage(rect.topLeft(), image)
            return
        left = window.x_of(made_for.start, rect.width())
        right = window.x_of(made_for.stop, rect.width())
        painter.save()
        painter.setClipRect(rect)
        painter.drawImage(QRectF(rect.x() + left, rect.y(), right - left, rect.height()), image)
        painter.restore()

    def _selection_rects(self, work: Work, rect: QRectF) -> list[QRectF]:
        """Return where the selection is drawn: for each channel it means, if they are drawn apart."""
        return [rect]

    def _draw_selection(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        if work.selection:
            left, right = (self.x_of(frame) for frame in work.selection.span)
            for lane in self._selection_rects(work, rect):
                painter.fillRect(
                    QRectF(left, lane.y(), max(1.0, right - left), lane.height()), self.theme.color("selection", 76)
                )
            painter.setPen(QPen(self.theme.color("selection"), 1))
            for x in (left, right):
                painter.drawLine(QPointF(round(x) + 0.5, rect.top()), QPointF(round(x) + 0.5, rect.bottom()))

    def _draw_cursor(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        x = round(self.x_of(work.cursor)) + 0.5
        painter.setPen(QPen(self.theme.color("ink"), 1))
        painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
        if self._viewing.playhead is not None:
            x = round(self.x_of(self._viewing.playhead)) + 0.5
            painter.setPen(QPen(self.theme.color("mended"), 1))
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))

    # Pointer.

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Explain what is under the pointer, where something needs words.

        A filter and no ``event`` of its own: a fault in what is called from within that would not be told, but crash.
        """
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent) and self._work:
            if text := self._tip_at(self._work, QPointF(event.pos())):
                QToolTip.showText(event.globalPos(), text, self)
            else:
                QToolTip.hideText()
                event.ignore()
            return True
        return False

    def _tip_at(self, work: Work, position: QPointF) -> str:
        """Return what a tooltip says at a place, or nothing."""
        return ""

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Scroll; with Ctrl, zoom about the pointer."""
        work = self._work
        if work is None:
            return
        steps = (event.angleDelta().y() or event.angleDelta().x()) / 120
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(ZOOM_STEP**-steps, self.frame_at(event.position().x()))
        else:
            window = self.window_of(work)
            self.set_window(window.scrolled(-steps * window.length / 8, work.frames))
        event.accept()

    def _press_tool(self, event: QMouseEvent) -> bool:
        """Offer the pointer to the tools; whether one of them took it."""
        self._tool = next((tool for tool in self.tools if tool.press(event)), None)
        return self._tool is not None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin a drag: in the ruler it moves and zooms, elsewhere it selects (Shift: extends the selection)."""
        work = self._work
        if (
            work is None
            or self._press_tool(event)
            or self._begin_scrub(event)
            or event.button() != Qt.MouseButton.LeftButton
        ):
            return
        x = event.position().x()
        if event.position().y() > self.content_bottom():
            self._drag = ("ruler", event.position(), (self.window_of(work), self.frame_at(x)))
            return
        edge = self._selection_edge(work, x)
        if edge is not None:
            self._drag = ("select", event.position(), edge)
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            anchor = (
                work.cursor
                if not work.selection
                else min(work.selection.span, key=lambda f: -abs(f - self.frame_at(x)))
            )
            self._drag = ("select", event.position(), anchor)
            self._bench.select(anchor, self._selected_frame(x, anchor, event))
        else:
            self._drag = ("press", event.position(), self.frame_at(x))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Go on with a drag, or tell what is under the pointer."""
        work = self._work
        if work is None:
            return
        position = event.position()
        self._point(work, position)
        if self._tool is not None:
            self._tool.move(event)
            return
        if self._go_on_scrubbing(event):
            return
        if self._drag is None:
            shapes = (tool.shape_at(position) for tool in self.tools)
            if (own := next((shape for shape in shapes if shape is not None), None)) is not None:
                self.setCursor(own)
                return
            on_edge = self._selection_edge(work, position.x()) is not None
            in_ruler = position.y() > self.content_bottom()
            shape = (
                Qt.CursorShape.SizeHorCursor
                if on_edge
                else Qt.CursorShape.SizeAllCursor
                if in_ruler
                else Qt.CursorShape.ArrowCursor
            )
            self.setCursor(shape)
            return
        kind, origin, held = self._drag
        if kind == "press" and abs(position.x() - origin.x()) >= DRAG_PIXELS:
            kind, held = "select", round(self._snapped(held, event))
            self._drag = (kind, origin, held)
        if kind == "select":
            self._select_to(work, held, self._selected_frame(position.x(), held, event))
        elif kind == "ruler":
            window, frame = held
            factor = 1.01 ** (position.y() - origin.y())
            zoomed = window.zoomed(factor, frame, 24, work.frames)
            moved = (origin.x() - position.x()) * zoomed.length / max(1, self.width())
            self.set_window(zoomed.scrolled(moved, work.frames))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End a drag; a click without one sets the cursor and clears the selection."""
        if self._tool is not None:
            tool, self._tool = self._tool, None
            tool.release(event)
            return
        if self._end_scrub(event):
            return
        if self._drag and self._drag[0] == "press":
            self._bench.select(0, 0)
            self._clicked(self._drag[2])
        elif self._drag and self._drag[0] == "select" and self._work and self._work.selection:
            self._bench.set_cursor(self._work.selection.start, follow=False)
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Offer a double click to the tools; else it is a press like any other."""
        self._tool = next((tool for tool in self.tools if tool.double_click(event)), None)
        if self._tool is None:
            self.mousePressEvent(event)

    def _draw_tools(self, painter: QPainter, work: Work, rect: QRectF) -> None:
        for tool in reversed(self.tools):
            painter.save()
            tool.draw(painter, work, rect)
            painter.restore()

    def _tool_tip_at(self, position: QPointF) -> str:
        return next(filter(None, (tool.tip_at(position) for tool in self.tools)), "")

    def leaveEvent(self, event: QEvent) -> None:
        """Stop telling what is under the pointer."""
        self._viewing.point(None)

    def _clicked(self, frame: float) -> None:
        self._bench.set_cursor(frame)

    def _select_to(self, work: Work, anchor: float, frame: float) -> None:
        """Have the edge that is dragged be at a frame; the Loupe follows it, and the keys move it from now on."""
        self._bench.select(anchor, frame)
        selecting = self._viewing.selecting
        if work.selection and selecting.moves_start != (frame < anchor):
            selecting.moves_start = frame < anchor
        if self.window_of(work) is not work.loupe:
            self._bench.set_loupe(work.loupe.centred(frame, work.frames))

    def _selected_frame(self, x: float, anchor: float, event: QMouseEvent) -> float:
        return self._snapped(self.frame_at(min(max(0.0, x), self.width())), event)

    def _snapped(self, frame: float, event: QMouseEvent) -> float:
        """Return where an edge is drawn to, unless Ctrl is held."""
        work = self._work
        if work is None or event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            return frame
        reach = SNAP_PIXELS * self.window_of(work).length / max(1, self.width())
        return self._viewing.selecting.snapped(work, frame, reach)

    # The right button scrubs where it is drawn along; a plain click asks what can be done there.

    def _begin_scrub(self, event: QMouseEvent) -> bool:
        if event.button() != Qt.MouseButton.RightButton:
            return False
        self._right_from = event.position()
        return True

    def _go_on_scrubbing(self, event: QMouseEvent) -> bool:
        if not event.buttons() & Qt.MouseButton.RightButton or self._right_from is None:
            return False
        listening = self._viewing.listening
        if not listening.is_scrubbing:
            if abs(event.position().x() - self._right_from.x()) < DRAG_PIXELS:
                return True
            listening.scrub(self.frame_at(self._right_from.x()))
        listening.scrub(self.frame_at(min(max(0.0, event.position().x()), self.width())))
        return True

    def _end_scrub(self, event: QMouseEvent) -> bool:
        if event.button() != Qt.MouseButton.RightButton:
            return False
        self._right_from = None
        if self._viewing.listening.is_scrubbing:
            self._viewing.listening.end_scrub()
        elif (work := self._work) is not None:
            self._go_to(work, event.position())
            self.menu_wanted.emit(event.globalPosition().toPoint())
        return True

    def _go_to(self, work: Work, position: QPointF) -> None:
        """Go to a place that something is asked for at, unless that is in the selection."""
        frame = self.frame_at(position.x())
        if not (work.selection and work.selection.start <= frame < work.selection.stop):
            self._bench.select(0, 0)
            self._clicked(frame)

    def _selection_edge(self, work: Work, x: float) -> int | None:
        """Return the other edge of the selection if the pointer is on one of its edges."""
        if work.selection:
            for own, other in (work.selection.span, work.selection.span[::-1]):
                if abs(self.x_of(own) - x) <= 4:
                    return other
        return None

    def _point(self, work: Work, position: QPointF) -> None:
        frame = int(self.frame_at(position.x()))
        if 0 <= frame < work.frames:
            self._viewing.point(Pointed(frame, *self._value_at(work, position, frame)))
        else:
            self._viewing.point(None)

    def _value_at(self, work: Work, position: QPointF, frame: int) -> tuple[int, float | None, float | None]:
        """Return the channel, the exact sample if it is known, and the highest level there, under the pointer."""
        return 0, None, None
