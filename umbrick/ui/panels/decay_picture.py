"""What dereverberation does: how sound dies away in its room, and how it does when treated."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen

from umbrick.core.spectral.room import Decay
from umbrick.core.units import format_db
from umbrick.ui import theme as themes
from umbrick.ui.panels.step_picture import FOOT, StepPicture
from umbrick.ui.strips.polyline import polyline

_MARGIN = 6
_LOWEST_DB, _STEP_DB = -50.0, 10
_STEP_SECONDS = 0.1
_TOLD_AT_SECONDS, _ENDLESS_SECONDS = 0.2, 10.0


@dataclass(frozen=True)
class Decays:
    """How sound dies away before and after, where either can be told."""

    before: Decay | None
    after: Decay | None

    def told(self) -> list[str]:
        """Return both in words, a line each."""
        if self.before is None:
            return ["Too little sound to tell the room by"]
        seconds = self.before.sixty_db_seconds
        after = f"{1000 * _TOLD_AT_SECONDS:.0f} ms later"
        told = [f"room {seconds:.1f} s" if seconds < _ENDLESS_SECONDS else "nothing dies away"]
        told.append(f"{after} {format_db(self.before.level_db(_TOLD_AT_SECONDS), 'dB', 0)}")
        if self.after is not None:
            told.append(f"treated {format_db(self.after.level_db(_TOLD_AT_SECONDS), 'dB', 0)}")
        return told


class DecayPicture(StepPicture):
    """Two lines falling from 0 dB: the room that comes in, and what is left of it."""

    def __init__(self) -> None:
        super().__init__(112)
        self.decays: Decays | None = None
        self.setAccessibleName("How sound dies away")
        self.setToolTip("How far sound has fallen some time after it ends: before (dashed), and treated")

    def show_decays(self, decays: Decays | None) -> None:
        """Show other decays; None while they are measured."""
        self.decays = decays
        self.setAccessibleDescription("" if decays is None else ", ".join(decays.told()))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw them."""
        painter, rect = QPainter(self), self._plot()
        painter.fillRect(rect, self.theme.color("paper"))
        painter.setFont(themes.font(10))
        known = [] if self.decays is None else [one for one in (self.decays.before, self.decays.after) if one]
        if not known:
            said = "Being measured…" if self.decays is None else self.decays.told()[0]
            painter.setPen(self.theme.color("faint"))
            painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, said)
            return
        longest = max(one.seconds[-1] for one in known)
        self._draw_scales(painter, rect, longest)
        assert self.decays is not None
        dashed = QPen(self.theme.color("faint"), 1.5, Qt.PenStyle.DashLine)
        for one, pen in ((self.decays.before, dashed), (self.decays.after, QPen(self.theme.color("body"), 1.5))):
            if one is not None:
                self._draw(painter, rect, one, longest, pen)
        painter.setPen(self.theme.color("body"))
        right = rect.adjusted(_MARGIN, 3, -_MARGIN, 0)
        painter.drawText(right, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, "\n".join(self.decays.told()))

    def _draw(self, painter: QPainter, rect: QRectF, decay: Decay, longest: float, pen: QPen) -> None:
        x = rect.x() + np.array(decay.seconds) / longest * rect.width()
        y = rect.y() + np.clip(np.array(decay.levels_db) / _LOWEST_DB, 0, 1) * rect.height()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(pen)
        painter.drawPolyline(polyline(x, y))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _draw_scales(self, painter: QPainter, rect: QRectF, longest: float) -> None:
        painter.setPen(QPen(self.theme.color("rule"), 1))
        for level_db in range(-_STEP_DB, int(_LOWEST_DB), -_STEP_DB):
            y = round(rect.y() + level_db / _LOWEST_DB * rect.height())
            painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))
        for seconds in np.arange(_STEP_SECONDS, longest - _STEP_SECONDS / 2, _STEP_SECONDS).tolist():
            x = rect.x() + seconds / longest * rect.width()
            painter.setPen(QPen(self.theme.color("rule"), 1))
            painter.drawLine(QPointF(round(x), rect.top()), QPointF(round(x), rect.bottom()))
            painter.setPen(self.theme.color("faint"))
            foot = QRectF(x - 30, rect.bottom(), 60, FOOT)
            painter.drawText(foot, Qt.AlignmentFlag.AlignCenter, f"{1000 * seconds:.0f} ms")
