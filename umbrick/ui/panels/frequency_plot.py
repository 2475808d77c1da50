"""A plot over the logarithm of frequency, with the spectrum of a sound in it."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from umbrick.ui import theme as themes
from umbrick.ui.panels.step_picture import FOOT, StepPicture
from umbrick.ui.strips.polyline import polyline

Levels = npt.NDArray[np.float64]

_LOW_HZ = 20.0
_SPECTRUM_DB = 90.0
_HEADROOM = 8
_DECADES = (100, 1000, 10_000)


class FrequencyPlot(StepPicture):
    """What all plots over frequency have: places, the lines behind, spectra."""

    def __init__(self) -> None:
        super().__init__(132)
        self._rate = 48000

    @property
    def _top_hz(self) -> float:
        return self._rate / 2

    def x_of(self, hz: float) -> float:
        """Return where a frequency is."""
        span = np.log(self._top_hz / _LOW_HZ)
        return float(np.log(max(hz, 1.0) / _LOW_HZ) / span * self._plot().width())

    def _hz_at(self, x: Any) -> Any:
        share = np.clip(x / max(1.0, self._plot().width()), 0.0, 1.0)
        return _LOW_HZ * (self._top_hz / _LOW_HZ) ** share

    def _draw_frequencies(self, painter: QPainter, rect: QRectF) -> None:
        painter.setFont(themes.font(10))
        for hz in _DECADES:
            if hz < self._top_hz:
                x = round(self.x_of(hz)) + 0.5
                painter.setPen(QPen(self.theme.color("rule"), 1, Qt.PenStyle.DotLine))
                painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
                painter.setPen(self.theme.color("faint"))
                text = f"{hz // 1000} kHz" if hz >= 1000 else f"{hz} Hz"
                painter.drawText(QRectF(x - 30, rect.bottom(), 60, FOOT), Qt.AlignmentFlag.AlignCenter, text)

    def _line_of(self, spectrum: Levels, rect: QRectF, top_db: float) -> tuple[Levels, Levels]:
        """Return the pixels of a spectrum: the highest of the lines that fall on each, with ``top_db`` near the top."""
        x = np.arange(0.0, rect.width() + 1)
        edges = self._hz_at(np.append(x, x[-1] + 1)) / self._top_hz * (len(spectrum) - 1)
        first = np.clip(edges[:-1].astype(int), 0, len(spectrum) - 1)
        level_db = np.maximum.reduceat(spectrum, first) if np.all(np.diff(first) > 0) else spectrum[first]
        wide = np.interp(edges[:-1], np.arange(len(spectrum)), spectrum)
        level_db = np.where(np.diff(edges) > 1, level_db, wide)
        y = rect.top() + _HEADROOM + (top_db - level_db) / _SPECTRUM_DB * rect.height()
        return x, np.minimum(y, rect.bottom())

    def _draw_spectrum(self, painter: QPainter, rect: QRectF, spectrum: Levels | None) -> None:
        if spectrum is None or len(spectrum) < 2:
            return
        x, y = self._line_of(spectrum, rect, float(spectrum.max()))
        area = polyline(np.concatenate([x, [x[-1], 0.0]]), np.concatenate([y, [rect.bottom(), rect.bottom()]]))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("envelope", 110))
        painter.drawPolygon(area)
