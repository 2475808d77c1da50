"""Redrawing samples in the Loupe: strokes of the pen, nudges, shapes, typed values; each is one undo step."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QObject, QTimer, Signal

from umbrick.core.errors import ParameterError
from umbrick.core.mend.applying import Mended, apply_method, as_mended
from umbrick.core.mend.impulses.redraw import FREEHAND, drawn, smoothed
from umbrick.core.mend.method import Reworked
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.band_limited import CURVE_CONTEXT
from umbrick.core.timeline.version import Version
from umbrick.core.units import db_to_amplitude, format_count, parse_db
from umbrick.ui.bench.bench import Bench
from umbrick.ui.hand.handwork import Handwork
from umbrick.work.work import LOUPE_FRAMES, Work

_FINDING_SECONDS = 0.005
_AT_ONCE_FRAMES = 20_000
_NUDGE_ENDS_MS = 400
_FURTHEST = 8.0


@dataclass
class Stroke:
    """A stroke on its way: samples of one version as they are being drawn.

    ``samples`` are all channels from frame ``first`` on, ``drawn`` tells which frames the stroke has touched.
    """

    work: Work
    version: Version
    channels: tuple[int, ...]
    first: int
    before: npt.NDArray[np.float64]
    samples: npt.NDArray[np.float64] = field(init=False)
    drawn: npt.NDArray[np.bool_] = field(init=False)
    last: tuple[int, float] | None = None

    def __post_init__(self) -> None:
        self.samples = self.before.copy()
        self.drawn = np.zeros(len(self.before), np.bool_)

    def set(self, channel: int, frames: npt.NDArray[np.int64], values: npt.NDArray[np.float64]) -> None:
        """Give frames of a channel new values; linked channels change by as much."""
        rows = frames - self.first
        inside = (rows >= 0) & (rows < len(self.samples))
        rows, values = rows[inside], np.clip(values[inside], -_FURTHEST, _FURTHEST)
        by = values - self.before[rows, channel]
        for other in self.channels:
            self.samples[rows, other] = self.before[rows, other] + by
        self.samples[rows, channel] = values
        self.drawn[rows] = True


class Drawing(QObject):
    """The pen, and what it is drawing; ``is_on`` tells whether a drag in the Loupe draws."""

    changed = Signal()

    def __init__(self, bench: Bench, handwork: Handwork) -> None:
        super().__init__(bench)
        self._bench = bench
        self._handwork = handwork
        self.is_on = False
        self.most_drawable = LOUPE_FRAMES
        """Samples in the Loupe up to which each is drawn as a dot and can be taken hold of."""
        self.links = False
        self.smooths = False
        self.stroke: Stroke | None = None
        self._nudged = QTimer(self, singleShot=True, interval=_NUDGE_ENDS_MS)
        self._nudged.timeout.connect(self.end)
        bench.recording_changed.connect(self.end)

    def toggle(self) -> None:
        """Take up the pen, or lay it down."""
        self.is_on = not self.is_on
        self.changed.emit()
        reason = self.reason_against()
        if self.is_on:
            self._bench.said.emit(
                reason or "Drag in the Loupe to draw; Shift draws a straight line, D lays the pen down."
            )

    def toggle_links(self) -> None:
        """Draw on all channels at once, or on the Loupe's alone."""
        self.links = not self.links
        self.changed.emit()

    def toggle_smooths(self) -> None:
        """Smooth every stroke a little, or leave it as drawn."""
        self.smooths = not self.smooths
        self.changed.emit()

    def reason_against(self) -> str:
        """Return why samples cannot be drawn now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        if work.loupe.length > self.most_drawable:
            shown = format_count(round(work.loupe.length), "sample")
            return f"The Loupe shows {shown}, too many to draw on: Ctrl+0 zooms in."
        return work.held

    def come_close(self) -> None:
        """Zoom the Loupe in so that single samples can be drawn."""
        if work := self._bench.work:
            middle = work.selection.start if work.selection else work.cursor
            factor = LOUPE_FRAMES / work.loupe.length
            self._bench.zoom_loupe(factor, (work.loupe.start + work.loupe.stop) / 2)
            self._bench.set_loupe(work.loupe.centred(middle, work.frames))

    # Freehand.

    def begin(self, frame: int, value: float) -> bool:
        """Begin a stroke with one sample; whether that can be done."""
        self.end()
        work = self._bench.work
        reason = self.reason_against()
        if work is None or reason:
            self._bench.failed.emit(reason)
            return False
        margin = CURVE_CONTEXT + 2
        first = max(0, int(work.loupe.start) - margin)
        last = min(work.frames, int(work.loupe.stop) + margin + 1)
        channels = tuple(range(work.channels)) if self.links else (work.channel,)
        self.stroke = Stroke(work, work.version, channels, first, work.version.read_exact(first, last))
        self.draw_to(frame, value)
        return True

    def draw_to(self, frame: int, value: float) -> None:
        """Go on with the stroke; the samples between are on a line."""
        stroke = self.stroke
        if stroke is None:
            return
        start, from_value = stroke.last or (frame, value)
        step = 1 if frame >= start else -1
        frames = np.arange(start, frame + step, step)
        values = np.linspace(from_value, value, len(frames)) if len(frames) > 1 else np.array([value])
        stroke.set(stroke.work.channel, frames, values)
        stroke.last = (frame, value)
        self.changed.emit()

    def line_to(self, frame: int, value: float, begun: tuple[int, float]) -> None:
        """Make the stroke a straight line from where it was begun."""
        stroke = self.stroke
        if stroke is None:
            return
        stroke.__post_init__()
        stroke.last = begun
        self.draw_to(frame, value)

    @property
    def holds(self) -> bool:
        """Whether a stroke is being drawn."""
        return self.stroke is not None

    def leave(self) -> None:
        """Forget the stroke."""
        self.stroke = None
        self.changed.emit()

    def end(self) -> None:
        """Put what was drawn in the history, as one step."""
        self._nudged.stop()
        stroke, self.stroke = self.stroke, None
        if stroke is None or not stroke.drawn.any():
            return
        if stroke.version is not stroke.work.version:
            self._bench.failed.emit("The recording has changed meanwhile: the stroke was not kept.")
            return
        if mended := self._made(stroke):
            self._handwork.put(stroke.work, "redraw", mended)
        self.changed.emit()

    def _made(self, stroke: Stroke) -> Mended | None:
        rows = np.flatnonzero(stroke.drawn)
        first, last = int(rows[0]), int(rows[-1]) + 1
        samples = stroke.samples
        if self.smooths and last - first > 2:
            samples = samples.copy()
            for channel in stroke.channels:
                samples[first:last, channel] = smoothed(stroke.samples[:, channel], first, last)
        if np.array_equal(samples[first:last], stroke.before[first:last]):
            return None
        place = Place(stroke.first + first, stroke.first + last, stroke.channels)
        stretch = drawn(stroke.version, place, samples[first:last, list(stroke.channels)])
        return as_mended(stroke.version, "redraw", [Reworked((stretch,), place, {"shape": FREEHAND})])

    # Nudging, shapes, values.

    def nudge(self, by: float) -> None:
        """Move the sample at the cursor up or down; presses that follow at once belong to the same stroke."""
        work = self._bench.work
        if work is None or work.cursor >= work.frames:
            return
        frame = work.cursor
        stroke = self.stroke
        if stroke is None or stroke.last is None or stroke.last[0] != frame or stroke.work is not work:
            value = self._value(work, frame)
            if value is None or not self.begin(frame, value + by):
                return
        else:
            self.draw_to(frame, stroke.last[1] + by)
        self._nudged.start()

    def shape(self, shape: str) -> None:
        """Redraw the selection, the short finding one has come to, or the sample at the cursor, by a shape."""
        work = self._bench.work
        focus = work.focus if work else None
        is_there = work and focus and not work.selection and work.cursor == focus.start
        if work and focus and is_there and focus.stop - focus.start <= _FINDING_SECONDS * work.rate:
            self._redraw({"shape": shape}, Place.of(focus))
        else:
            self._redraw({"shape": shape})

    def set_value(self, text: str) -> None:
        """Give the selection, or the sample at the cursor, a typed value.

        Raises
        ------
        ParameterError
            If it is neither a sample from −8 to 8 nor a level in dBFS, which keeps the sample's sign.
        """
        work = self._bench.work
        if work is None:
            return
        plain = text.strip().replace(",", ".").replace("−", "-")
        try:
            value = float(plain)
        except ValueError:
            place = self._place(work)
            value = db_to_amplitude(parse_db(text))
            if place and (self._value(work, place.start) or 0.0) < 0:
                value = -value
        if not -_FURTHEST <= value <= _FURTHEST:
            raise ParameterError(f"Type a sample from −{_FURTHEST:g} to {_FURTHEST:g}, or a level in dBFS.")
        self._redraw({"shape": "value", "value": value})

    def _redraw(self, settings: dict[str, str | float], place: Place | None = None) -> None:
        self.end()
        work = self._bench.work
        place = place or (self._place(work) if work else None)
        if work is None or place is None:
            return
        if place.stop - place.start > _AT_ONCE_FRAMES:
            self._handwork.apply("redraw", settings, place)
            return
        mended = apply_method(work.version, method_named("redraw"), settings, [place])
        if self._handwork.put(work, "redraw", mended):
            self._bench.said.emit(f"Redrawn: {format_count(place.stop - place.start, 'sample')}. Undo takes that back.")

    def _place(self, work: Work) -> Place | None:
        channels = tuple(range(work.channels)) if self.links else (work.channel,)
        if work.selection:
            return Place(*work.selection.span, channels)
        if work.cursor >= work.frames:
            self._bench.said.emit("The cursor is at the end: there is no sample.")
            return None
        return Place(work.cursor, work.cursor + 1, channels)

    @staticmethod
    def _value(work: Work, frame: int) -> float | None:
        if not 0 <= frame < work.frames:
            return None
        return float(work.version.read_exact(frame, frame + 1)[0, work.channel])
