"""What denoising and dereverberation do: the spectrum that comes in, the noise print, and what is taken out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen

from umbrick.ui import theme as themes
from umbrick.ui.panels.frequency_plot import FrequencyPlot
from umbrick.ui.strips.polyline import polyline

Levels = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class NoiseSpectra:
    """Levels in dBFS over frequencies from 0 to half the rate: the sound before, after, and the print, if any."""

    before: Levels
    after: Levels
    noise: Levels | None = None


class NoisePicture(FrequencyPlot):
    """Shows spectra; nothing is done in it."""

    def __init__(self) -> None:
        super().__init__()
        self.spectra: NoiseSpectra | None = None
        self.setAccessibleName("What is taken out")
        self.setToolTip("The sound that comes in, what of it is taken out (red), and the noise print (dashed)")

    def show_spectra(self, spectra: NoiseSpectra | None, rate: int) -> None:
        """Show other spectra; None while they are measured."""
        self._rate = rate
        self.spectra = spectra
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw them."""
        painter, rect = QPainter(self), self._plot()
        painter.fillRect(rect, self.theme.color("paper"))
        spectra = self.spectra
        if spectra is None:
            painter.setFont(themes.font(11))
            painter.setPen(self.theme.color("faint"))
            painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, "Being measured…")
        else:
            self._draw_spectrum(painter, rect, spectra.before)
            self._draw_taken(painter, rect, spectra)
        self._draw_frequencies(painter, rect)

    def _draw_taken(self, painter: QPainter, rect: QRectF, spectra: NoiseSpectra) -> None:
        top_db = float(spectra.before.max())
        x, before = self._line_of(spectra.before, rect, top_db)
        _, after = self._line_of(spectra.after, rect, top_db)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("wrong", 70))
        painter.drawPolygon(polyline(np.concatenate([x, x[::-1]]), np.concatenate([before, after[::-1]])))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(self.theme.color("body"), 1))
        painter.drawPolyline(polyline(x, after))
        if spectra.noise is not None:
            _, noise = self._line_of(spectra.noise, rect, top_db)
            painter.setPen(QPen(self.theme.color("wrong"), 1, Qt.PenStyle.DashLine))
            painter.drawPolyline(polyline(x, noise))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
