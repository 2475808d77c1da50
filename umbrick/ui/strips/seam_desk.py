"""The seam desk: what goes out and what comes in on two lanes, the crossfade between them, and what they make."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QFont, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from umbrick.core.measure.crossings import Direction, crossings
from umbrick.core.mend.applying import Mended
from umbrick.core.mend.cutting.crossfade import rising
from umbrick.core.mend.cutting.seams import Seam, fade_reach
from umbrick.core.mend.place import Place
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock, format_integer, format_length
from umbrick.ui import theme as themes
from umbrick.ui.bench.listening import Listening
from umbrick.ui.hand.seaming import LOOP, Desk, Seaming
from umbrick.ui.strips.polyline import polyline
from umbrick.ui.strips.renderer import Renderer
from umbrick.ui.strips.strip import TITLE_HEIGHT, ZOOM_STEP

_FOOT_HEIGHT = 20
_LEAST_HALF, _MOST_HALF = 24, 4000
_USUAL_SECONDS = 0.012

Wave = npt.NDArray[np.float32]


class _Lanes(NamedTuple):
    """What is drawn: the three waves around the seam, and where the incoming side crosses zero as the outgoing does."""

    half: int
    before: int
    after: int
    outgoing: Wave
    incoming: Wave
    joined: Wave
    matching: npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class _DeskRequest:
    """What lies on the desk, and how many samples on either side of its seam are shown."""

    version: Version
    seam: Seam
    mended: Mended | None
    kind: str
    place: Place
    time: str
    half: int

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _DeskRequest) and self._told == other._told

    def __hash__(self) -> int:
        return hash(self._told)

    @property
    def _told(self) -> tuple[object, ...]:
        # Versions and what was made of them are told by which they are; seams by where they cut.
        cut = self.seam.out, self.seam.into, self.seam.fade
        return id(self.version), cut, id(self.mended), self.kind, self.place, self.time, self.half

    def make(self, is_overtaken: Callable[[], bool]) -> _Lanes:
        """Return both lanes, and what comes of them."""
        version, seam, mended, place, half = self.version, self.seam, self.mended, self.place, self.half
        before, after = fade_reach(version.frames, seam.out, seam.into, seam.fade)
        if self.kind == LOOP:
            before, after = 0, 0
        channel = place.channels[0]
        outgoing, incoming = (_around(version, frame, half, channel) for frame in (seam.out, seam.into))
        joined = np.concatenate([outgoing[:half], incoming[half:]])
        if mended is not None and self.kind == LOOP:
            end = place.stop + mended.mends[0].time_shift
            sides = (_around(mended.version, frame, half, channel) for frame in (end, place.start))
            into_end, from_start = sides
            joined = np.concatenate([into_end[:half], from_start[half:]])
        elif mended is not None and self.time != "keep":
            joined = _around(mended.version, seam.out, half, channel)
        pair = outgoing[half - 1 : half + 1]
        direction = Direction.RISING if pair[1] >= pair[0] else Direction.FALLING
        return _Lanes(half, before, after, outgoing, incoming, joined, crossings(incoming, direction))


class SeamDesk(QWidget):
    """Shows what is on the desk. The wheel zooms; the arrow keys slide the incoming side."""

    def __init__(self, seaming: Seaming, listening: Listening) -> None:
        super().__init__()
        self._seaming = seaming
        self._listening = listening
        self.theme = themes.DAYLIGHT
        self.half: int | None = None
        self._lanes: _Lanes | None = None
        self._renderer = Renderer(self)
        self._renderer.ready.connect(self._take)
        self._ask = QTimer(self, singleShot=True)
        self._ask.timeout.connect(self._request)
        self._wanted: _DeskRequest | None = None
        self._shown: _DeskRequest | None = None
        self.setAccessibleName("Seam desk")
        self.setMinimumHeight(190)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        seaming.desk_changed.connect(self._changed)
        listening.changed.connect(self.update)

    @property
    def is_idle(self) -> bool:
        """Whether what is on screen is what is on the desk."""
        return self._renderer.is_idle and (
            self._seaming.desk is None or self._shown == self._request_of(self._seaming.desk)
        )

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.theme = theme
        self.update()

    def close_renderer(self) -> None:
        """Stop drawing for good."""
        self._renderer.close()

    def _changed(self) -> None:
        if self._seaming.desk is None:
            self.half, self._lanes, self._shown = None, None, None
        else:
            self._ask.start(0)
        self.update()

    def _request_of(self, desk: Desk) -> _DeskRequest:
        half = self.half if self.half is not None else 0
        return _DeskRequest(desk.version, desk.seam, desk.mended, desk.kind, desk.place, desk.time, half)

    def _request(self) -> None:
        desk = self._seaming.desk
        if desk is None:
            return
        if self.half is None:
            usual = max(round(_USUAL_SECONDS * desk.rate), 2 * desk.seam.fade)
            self.half = min(max(_LEAST_HALF, usual), _MOST_HALF)
        self._wanted = self._request_of(desk)
        self._renderer.request(self._wanted)

    def _take(self, request: _DeskRequest, lanes: _Lanes) -> None:
        if request == self._wanted:
            self._lanes, self._shown = lanes, request
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Show more or less around the seam."""
        if self.half is not None:
            factor = ZOOM_STEP ** -(event.angleDelta().y() / 120)
            self.half = min(max(_LEAST_HALF, round(self.half * factor)), _MOST_HALF)
            self._ask.start(0)
            self.update()
        event.accept()

    # Painting.

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw title, lanes and foot."""
        painter = QPainter(self)
        theme = self.theme
        painter.fillRect(self.rect(), theme.color("paper"))
        desk, lanes = self._seaming.desk, self._lanes
        if desk is None:
            return
        self._draw_title(painter, desk)
        if lanes is not None:
            self._draw_lanes(painter, desk, lanes)
        self._draw_foot(painter, desk)

    def _draw_title(self, painter: QPainter, desk: Desk) -> None:
        painter.setFont(themes.font(11, QFont.Weight.DemiBold))
        painter.setPen(self.theme.color("faint"))
        line = QRectF(10, 0, self.width() - 20, TITLE_HEIGHT)
        painter.drawText(line, Qt.AlignmentFlag.AlignVCenter, "SEAM DESK")
        painter.setPen(self.theme.color("ink"))
        painter.drawText(line.adjusted(84, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, self.title(desk))
        painter.setFont(themes.font(11))
        painter.setPen(self.theme.color("mended"))
        state = "playing round" if self._listening.is_playing else "Space plays it round"
        painter.drawText(line, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, state)

    @staticmethod
    def title(desk: Desk) -> str:
        """Return what is on the desk, in words."""
        if desk.kind == LOOP:
            length = format_length(desk.place.stop - desk.place.start, desk.rate)
            return f"loop of {length}, its end and its start"
        what = "cut" if desk.entry is None else "cut made earlier"
        where = format_clock(desk.seam.out, desk.rate)
        return f"{what} at {where} · {format_length(desk.seam.removed, desk.rate)} taken out"

    def _draw_lanes(self, painter: QPainter, desk: Desk, lanes: _Lanes) -> None:
        theme = self.theme
        top, bottom = TITLE_HEIGHT, self.height() - _FOOT_HEIGHT
        height = (bottom - top) / 3
        rects = [QRectF(0, top + index * height, self.width(), height) for index in range(3)]
        left, right = (self._x(frame, lanes) for frame in (-lanes.before, lanes.after))
        painter.fillRect(QRectF(left, top, max(1.0, right - left), 2 * height), theme.color("selection", 60))
        seam_x = round(self._x(0, lanes)) + 0.5
        largest = max(float(np.abs(wave).max(initial=0.0)) for wave in (lanes.outgoing, lanes.incoming)) or 1.0
        solid = slice(0, lanes.half + lanes.after), slice(lanes.half - lanes.before, None), slice(0, None)
        colors = "body", "mended", "ink"
        waves = lanes.outgoing, lanes.incoming, lanes.joined
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for rect, wave, part, color in zip(rects, waves, solid, colors, strict=True):
            painter.setPen(QPen(theme.color("rule"), 1))
            painter.drawLine(QPointF(0, rect.center().y()), QPointF(self.width(), rect.center().y()))
            painter.drawLine(QPointF(0, rect.bottom()), QPointF(self.width(), rect.bottom()))
            if color != "ink":
                painter.setPen(QPen(theme.color("ghost"), 1, Qt.PenStyle.DotLine))
                self._draw_wave(painter, wave, slice(0, None), rect, largest, lanes)
            painter.setPen(QPen(theme.color(color), 1))
            self._draw_wave(painter, wave, part, rect, largest, lanes)
        if lanes.before + lanes.after > 1:
            gain = rising(lanes.before + lanes.after, desk.seam.shape)[:, 0]
            for rect, gains in ((rects[0], gain[::-1]), (rects[1], gain)):
                curve = np.concatenate([[gains[0] > 0.5], gains, [gains[-1] > 0.5]]).astype(np.float64)
                x = np.concatenate([[0.0], np.linspace(left, right, len(gains)), [float(self.width())]])
                painter.setPen(QPen(theme.color("ink"), 1))
                painter.drawPolyline(polyline(x, rect.bottom() - 3 - curve * (rect.height() - 6)))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QPen(theme.color("wrong"), 1))
        painter.drawLine(QPointF(seam_x, top), QPointF(seam_x, bottom))
        for at in lanes.matching.tolist():
            column = round(self._x(at - lanes.half, lanes)) + 0.5
            painter.drawLine(QPointF(column, rects[1].bottom() - 4), QPointF(column, rects[1].bottom()))
        self._draw_labels(painter, desk, rects)

    def _draw_wave(
        self, painter: QPainter, wave: Wave, part: slice, rect: QRectF, largest: float, lanes: _Lanes
    ) -> None:
        frames = np.arange(len(wave))[part]
        x = (frames + 0.5) * self.width() / len(wave)
        y = rect.center().y() - wave[part] * (0.44 * rect.height() / largest)
        painter.drawPolyline(polyline(x, y.astype(np.float64)))

    def _draw_labels(self, painter: QPainter, desk: Desk, rects: list[QRectF]) -> None:
        slid = f" · slid {format_integer(desk.slid)} samples" if desk.slid else ""
        is_loop = desk.kind == LOOP
        texts = (
            ("End" if is_loop else "Outgoing", format_clock(desk.seam.out, desk.rate, 4)),
            ("Start" if is_loop else "Incoming", format_clock(desk.seam.into, desk.rate, 4) + slid),
            ("Joined", ""),
        )
        for rect, (name, detail) in zip(rects, texts, strict=True):
            painter.setFont(themes.font(11, QFont.Weight.DemiBold))
            name_width = painter.fontMetrics().horizontalAdvance(name)
            room = name_width + (painter.fontMetrics().horizontalAdvance(detail) + 12 if detail else 4)
            painter.fillRect(QRectF(8, rect.top() + 1, room, 15), self.theme.color("paper", 210))
            painter.setPen(self.theme.color("ink"))
            painter.drawText(QPointF(10, rect.top() + 13), name)
            painter.setFont(themes.font(11))
            painter.setPen(self.theme.color("faint"))
            painter.drawText(QPointF(18 + name_width, rect.top() + 13), detail)

    def _draw_foot(self, painter: QPainter, desk: Desk) -> None:
        line = QRectF(10, self.height() - _FOOT_HEIGHT, self.width() - 20, _FOOT_HEIGHT)
        painter.setFont(themes.font(11))
        painter.setPen(self.theme.color("faint"))
        keys = "Enter makes it · Esc leaves it · the wheel zooms"
        if desk.kind != LOOP:
            keys = f"← → one sample · Shift ten · Ctrl next matching crossing · {keys}"
        painter.drawText(line, Qt.AlignmentFlag.AlignVCenter, keys)

    def _x(self, frame: float, lanes: _Lanes) -> float:
        return (frame + lanes.half) * self.width() / (2 * lanes.half)


def _around(version: Version, frame: int, half: int, channel: int) -> Wave:
    """Return ``half`` frames on both sides of a place, silence where the version has none."""
    wave = np.zeros(2 * half, np.float32)
    start, stop = max(0, frame - half), min(version.frames, frame + half)
    if start < stop:
        wave[start - frame + half : stop - frame + half] = version.read(start, stop)[:, channel]
    return wave
