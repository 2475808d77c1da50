"""The lanes of a set below the Passage: each linked recording at the same moment, with what is heard of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from umbrick.core.course.laid import underneath
from umbrick.core.timeline.provenance import rebuilt_spans
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_length
from umbrick.core.view.columns import Columns
from umbrick.core.view.window import Window
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.linking import Linking
from umbrick.ui.strips.course_picture import measured_with_beneath
from umbrick.ui.strips.renderer import Renderer
from umbrick.ui.strips.wave_image import Ink, columns_of, to_image, wave_pixels
from umbrick.work.linked import Lane

_HEAD_HEIGHT, _WAVE_HEIGHT = 20, 30
_ROW_HEIGHT = _HEAD_HEIGHT + _WAVE_HEIGHT
_MOST_HEIGHT = 4 * _ROW_HEIGHT
_NAME_WIDTH = 260
_LEAST_TOP = 0.05
_SWITCHES = (("is_solo", "Solo", "Hear only this lane"), ("is_muted", "Mute", "Do not hear this lane with the others"),
             ("is_inverted", "±", "Turn its polarity over, for listening"))  # fmt: skip


@dataclass(frozen=True)
class _LaneWave:
    """One lane's part of the picture."""

    version: Version
    window: Window
    known: int
    columns: Columns = field(compare=False)
    original: Version = field(compare=False)


@dataclass(frozen=True)
class _LanesRequest:
    """What the pictures of the lanes in view depend on, the first of which is number ``first``; equal requests give
    equal pictures."""

    first: int
    lanes: tuple[_LaneWave, ...]
    size: tuple[int, int]
    ratio: float
    top: float
    theme: themes.Theme

    def make(self, is_overtaken: Callable[[], bool]) -> list[QImage]:
        """Return a picture for each lane."""
        width, height = self.size
        made = []
        for lane in self.lanes:
            start = round(lane.window.start)
            stop = max(start + 1, round(lane.window.stop))
            extent, faint = measured_with_beneath(lane.columns, lane.version, start, stop, width)
            spans = rebuilt_spans(underneath(lane.version), lane.original)
            rebuilt = columns_of(spans, start, stop, width)
            own = max(2, height // lane.version.channels)
            pixels = wave_pixels(extent, rebuilt, own, self.top, Ink.of(self.theme), faint)
            made.append(to_image(pixels, self.ratio))
        return made


class LaneHead(QWidget):
    """A lane's name and switches. A press on the name goes there."""

    def __init__(self, linking: Linking, lane: Lane) -> None:
        super().__init__()
        self._linking = linking
        self.lane = lane
        self.tick = QCheckBox()
        self.tick.setToolTip("Mends are carried to this lane too")
        self.tick.setAccessibleName(f"Carry to {lane.work.name}")
        self.tick.clicked.connect(lambda: linking.toggle(lane, "is_ticked"))
        self.name = QPushButton()
        self.name.setProperty("role", "plain")
        self.name.setFlat(True)
        self.name.setStyleSheet("text-align: left; padding: 0 2px;")
        self.name.setToolTip("Go to this lane, at the same moment")
        self.name.clicked.connect(lambda: linking.go_to(lane))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 0, 4, 0)
        layout.setSpacing(4)
        layout.addWidget(self.tick)
        layout.addWidget(self.name)
        layout.addStretch()
        self.switches: dict[str, QPushButton] = {}
        for what, text, hint in _SWITCHES:
            button = QPushButton(text)
            button.setCheckable(True)
            button.setFixedHeight(_HEAD_HEIGHT - 2)
            button.setProperty("role", "plain")
            button.setToolTip(hint)
            button.setAccessibleName(f"{hint}: {lane.work.name}")
            button.clicked.connect(lambda _=False, what=what: linking.toggle(lane, what))
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            self.switches[what] = button
            layout.addWidget(button)
        self.setFixedHeight(_HEAD_HEIGHT)

    def refresh(self) -> None:
        """Show what holds now."""
        for what, button in self.switches.items():
            button.setChecked(getattr(self.lane, what))
        self.tick.setChecked(self.lane.is_ticked)
        ranked = self._linking.ranked
        rises = [rise for lane, rise in ranked.lanes if lane is self.lane] if ranked else []
        name = self.name.fontMetrics().elidedText(self.lane.work.name, Qt.TextElideMode.ElideMiddle, _NAME_WIDTH)
        self.name.setText(f"{name}   deviates {rises[0]:+.0f} dB" if rises else name)
        font = self.name.font()
        font.setBold(self._linking.lane is self.lane)
        self.name.setFont(font)


class LanesPanel(QScrollArea):
    """Shows the lanes of the current recording's set; hidden where it is not linked."""

    def __init__(self, bench: Bench, linking: Linking) -> None:
        super().__init__()
        self._bench = bench
        self._linking = linking
        self.theme = themes.DAYLIGHT
        self.heads: list[LaneHead] = []
        self.images: dict[int, QImage] = {}
        """Of the lanes in view, by their numbers."""
        self.picture: _LanesRequest | None = None
        self._body = _Body(self)
        self.setWidget(self._body)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Lanes")
        self._renderer = Renderer(self)
        self._renderer.ready.connect(self._take)
        self._renderer.failed.connect(bench.failed)
        self._renderer.fault.connect(bench.jobs.fault)
        self._soon = QTimer(self, singleShot=True, interval=0)
        self._soon.timeout.connect(self.refresh)
        self.verticalScrollBar().valueChanged.connect(self._soon.start)
        for signal in (
            bench.recording_changed, bench.lanes_changed, bench.edited, bench.learned, bench.view_changed,
            bench.place_changed, linking.changed, linking.ranked_changed,
        ):  # fmt: skip
            signal.connect(self._soon.start)
        self.refresh()

    @property
    def is_idle(self) -> bool:
        """Whether what is shown is what belongs there."""
        if self._soon.isActive() or not self._renderer.is_idle:
            return False
        return self.isHidden() or self.picture == self._request()

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.theme = theme
        self._soon.start()

    def close_renderer(self) -> None:
        """Stop drawing for good."""
        self._renderer.close()

    def lanes(self) -> list[Lane]:
        """Return the lanes that are shown."""
        linked = self._linking.linked
        return linked.lanes if linked is not None else []

    def refresh(self) -> None:
        """Show what there is now."""
        lanes = self.lanes()
        self.setVisible(bool(lanes) and self._linking.shows_lanes)
        if [head.lane for head in self.heads] != lanes:
            self.heads = [LaneHead(self._linking, lane) for lane in lanes]
            self._body.hold(self.heads)
            height = _ROW_HEIGHT * len(lanes)
            self.setMinimumHeight(min(height, 3 * _ROW_HEIGHT))
            self.setMaximumHeight(min(height, _MOST_HEIGHT))
            self.images = {}
        for head in self.heads:
            head.refresh()
        request = self._request()
        if request is not None and request != self.picture:
            self._renderer.request(request)
        self._body.update()

    def rows(self) -> list[QRectF]:
        """Return where the waves of the lanes are."""
        width = max(8, self._body.width())
        return [QRectF(0, n * _ROW_HEIGHT + _HEAD_HEIGHT, width, _WAVE_HEIGHT) for n in range(len(self.heads))]

    def _request(self) -> _LanesRequest | None:
        linked, work = self._linking.linked, self._bench.work
        if linked is None or work is None or not self.isVisible():
            return None
        ratio = self.devicePixelRatioF()
        width = max(8, round(self._body.width() * ratio))
        top = 1.08 * max(_LEAST_TOP, *(lane.work.peak for lane in linked.lanes))
        waves = []
        first, last = self._in_view(len(linked.lanes))
        for lane in linked.lanes[first:last]:
            shift = linked.place_in(lane, work, round(work.passage.start)) - round(work.passage.start)
            window = Window(work.passage.start + shift, work.passage.stop + shift)
            own = lane.work
            waves.append(_LaneWave(own.outcome, window, own.pyramid.measured_frames, own.columns, own.history.original))
        return _LanesRequest(
            first, tuple(waves), (width, round(_WAVE_HEIGHT * ratio)), ratio, round(top, 3), self.theme
        )

    def _in_view(self, count: int) -> tuple[int, int]:
        """Return the first lane in view, and the one after the last."""
        top = self.verticalScrollBar().value()
        return min(count, top // _ROW_HEIGHT), min(count, -(-(top + self.viewport().height()) // _ROW_HEIGHT))

    def _take(self, request: _LanesRequest, images: list[QImage]) -> None:
        self.picture, self.images = request, dict(enumerate(images, request.first))
        self._body.update()
        if (wanted := self._request()) is not None and wanted != request:
            self._renderer.request(wanted)


@dataclass
class _Drag:
    """A lane that is being moved against the first one: from where, in which row, and by how many pixels."""

    lane: Lane
    start_x: float
    row: QRectF
    by: float = 0.0


class _Body(QWidget):
    """The rows themselves: heads as widgets, waves painted beside them."""

    def __init__(self, panel: LanesPanel) -> None:
        super().__init__()
        self._panel = panel
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(0)
        self._column.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._drag: _Drag | None = None
        self.setToolTip("Press to go there; hold Shift and drag to move a lane against the first")

    def hold(self, heads: list[LaneHead]) -> None:
        """Show other heads."""
        while (item := self._column.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        for head in heads:
            self._column.addWidget(head)
            self._column.addSpacing(_WAVE_HEIGHT)
        self.setMinimumHeight(_ROW_HEIGHT * len(heads))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the waves, the selection and the cursor, and what one is at."""
        panel, theme = self._panel, self._panel.theme
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.color("desk"))
        work = panel._bench.work
        for number, (head, row) in enumerate(zip(panel.heads, panel.rows(), strict=True)):
            painter.fillRect(row, theme.color("paper"))
            by = self._drag.by if self._drag is not None and self._drag.lane is head.lane else 0.0
            if (image := panel.images.get(number)) is not None:
                painter.save()
                painter.setClipRect(row)
                painter.drawImage(row.topLeft() + QPointF(by, 0), image)
                painter.restore()
            if work is not None:
                self._draw_place(painter, row)
            if by:
                painter.setPen(QPen(theme.color("ink"), 1))
                painter.drawText(row.adjusted(8, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter, self._drag_told())
            if head.lane.work is work:
                painter.fillRect(QRectF(0, row.top() - _HEAD_HEIGHT, 3, _ROW_HEIGHT), theme.color("mended"))
            painter.setPen(QPen(theme.color("rule"), 1))
            y = round(row.bottom()) + 0.5
            painter.drawLine(0, int(y), self.width(), int(y))

    def _draw_place(self, painter: QPainter, row: QRectF) -> None:
        panel, work = self._panel, self._panel._bench.work
        if work is None:
            return
        length = max(1.0, work.passage.length)

        def x_of(frame: float) -> float:
            return row.left() + (frame - work.passage.start) / length * row.width()

        painter.save()
        painter.setClipRect(row)
        if (place := work.place()) is not None:
            left, right = x_of(place.start), x_of(place.stop)
            painter.fillRect(
                QRectF(left, row.top(), max(1.0, right - left), row.height()), panel.theme.color("selection", 76)
            )
        painter.setPen(QPen(panel.theme.color("ink"), 1))
        x = x_of(work.cursor)
        painter.drawLine(int(x), int(row.top()), int(x), int(row.bottom()))
        painter.restore()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Go to the lane that is pressed, at that moment; or, with Shift, take hold of it."""
        panel, work = self._panel, self._panel._bench.work
        for head, row in zip(panel.heads, panel.rows(), strict=True):
            if work is not None and row.contains(event.position()):
                if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                    if why := panel._linking.reason_not_to_shift(head.lane):
                        panel._bench.said.emit(why)
                    else:
                        self._drag = _Drag(head.lane, event.position().x(), row)
                    return
                share = (event.position().x() - row.left()) / row.width()
                panel._bench.set_cursor(work.passage.start + share * work.passage.length)
                panel._linking.go_to(head.lane)
                return
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Move the lane that is held."""
        if self._drag is None:
            super().mouseMoveEvent(event)
            return
        self._drag.by = event.position().x() - self._drag.start_x
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Leave the lane where it was moved to."""
        drag, self._drag = self._drag, None
        if drag is None:
            super().mouseReleaseEvent(event)
            return
        self.update()
        if frames := self._frames_of(drag):
            self._panel._linking.set_offset(drag.lane.clock.offset_frames - frames, drag.lane)

    def _frames_of(self, drag: _Drag) -> int:
        """Return by how many frames later a lane's sound comes where it was moved to."""
        work = self._panel._bench.work
        return round(drag.by / drag.row.width() * work.passage.length) if work is not None else 0

    def _drag_told(self) -> str:
        drag, work = self._drag, self._panel._bench.work
        if drag is None or work is None:
            return ""
        frames = self._frames_of(drag)
        return f"{format_length(abs(frames), work.rate)} {'later' if frames >= 0 else 'earlier'}"
