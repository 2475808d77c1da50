"""The spectrum of what is selected: average and peaks, before and after, and the noise floor."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QShowEvent

from umbrick.core.measure.pauses import nearest_pause
from umbrick.core.measure.spectrum import Spectra, average_spectrum_db, spectra_db
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.version import Version
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.panels.frequency_plot import FrequencyPlot, Levels
from umbrick.ui.strips.polyline import polyline

_AFTER_MS = 200


@dataclass(frozen=True, eq=False)
class Seen:
    """Levels in dBFS over frequencies from 0 to half the rate; before and floor are None where there is none."""

    now: Spectra
    before: Levels | None
    floor: Levels | None


class SpectrumPicture(FrequencyPlot):
    """Follows the selection, or the area."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self._job: Job | None = None
        self._shown_for: tuple[object, ...] | None = None
        self.seen: Seen | None = None
        self.setAccessibleName("Spectrum")
        self.setToolTip(
            "The spectrum of what is selected: its average (filled), its peaks (line), before the mends (grey), and of "
            "the nearest pause (dashed)"
        )
        self._timer = QTimer(self, singleShot=True, interval=_AFTER_MS)
        self._timer.timeout.connect(self._measure)
        for signal in (bench.place_changed, bench.edited, bench.recording_changed):
            signal.connect(self._ask)

    def showEvent(self, event: QShowEvent) -> None:
        """Measure what is selected now."""
        super().showEvent(event)
        self._ask()

    def _ask(self) -> None:
        if self.isVisible():
            self._timer.start()

    def _span(self) -> tuple[int, int, tuple[int, ...]] | None:
        work = self._bench.work
        if work is None:
            return None
        if work.area is not None:
            start, stop, _ = work.area.placed(work.frames, work.rate)
            return start, stop, work.area.channels
        return (*work.selection.span, work.selection.channels) if work.selection else None

    def _measure(self) -> None:
        work, span = self._bench.work, self._span()
        if work is None or span is None:
            self.seen = self._shown_for = None
            self.update()
            return
        key = (work.outcome.key, span)
        if key == self._shown_for:
            return
        if self._job is not None:
            self._job.cancel()
        version, original = work.outcome, work.history.original
        self._job = self._bench.jobs.start(
            "measuring a spectrum",
            lambda _: _seen(version, original, span),
            lambda seen: self._take(key, seen, version.rate),
        )

    def _take(self, key: tuple[object, ...], seen: Seen, rate: int) -> None:
        self._shown_for, self.seen, self._rate = key, seen, rate
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw them."""
        painter, rect = QPainter(self), self._plot()
        painter.fillRect(rect, self.theme.color("paper"))
        if self.seen is None:
            painter.setFont(themes.font(11))
            painter.setPen(self.theme.color("faint"))
            painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, "Select something to see its spectrum.")
        else:
            self._draw_seen(painter, rect, self.seen)
        self._draw_frequencies(painter, rect)

    def _draw_seen(self, painter: QPainter, rect: QRectF, seen: Seen) -> None:
        top_db = float(seen.now.peak_db.max())
        x, average = self._line_of(seen.now.average_db, rect, top_db)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("envelope", 110))
        ends = np.concatenate([x, [x[-1], 0.0]]), np.concatenate([average, [rect.bottom(), rect.bottom()]])
        painter.drawPolygon(polyline(*ends))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        lines = (
            (seen.before, QPen(self.theme.color("ghost"), 1)),
            (seen.now.peak_db, QPen(self.theme.color("body"), 1)),
            (seen.floor, QPen(self.theme.color("mended"), 1, Qt.PenStyle.DashLine)),
        )
        for levels, pen in lines:
            if levels is not None:
                _, y = self._line_of(levels, rect, top_db)
                painter.setPen(pen)
                painter.drawPolyline(polyline(x, y))


def _seen(version: Version, original: Version, span: tuple[int, int, tuple[int, ...]]) -> Seen:
    start, stop, channels = span
    on = list(channels)
    now = spectra_db(version, start, stop, on)
    before = None
    if version.key != original.key:
        ((first, last),) = map_spans(version, original, [(start, stop)])
        before = average_spectrum_db(original, first, last, on) if last > first else None
    pause = nearest_pause(version, start, (start, stop))
    floor = average_spectrum_db(version, *pause, on) if pause is not None else None
    return Seen(now, before, floor)
