"""The level review: a drawer at the bottom with one column for each part of the recording."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from umbrick.core.measure.parts import Part
from umbrick.core.survey.finding import Family
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.hand.reviewing import Reviewing, described
from umbrick.ui.icons import draw_glyph
from umbrick.ui.own_keys import keep_keys

_LEAST_RANGE_DB, _BELOW_DB = 24.0, 6.0
_TINT = 0.3
_WIDEST, _NARROWEST = 56.0, 4.0
_FOOT = 16


class LevelChart(QWidget):
    """A column for each part: its loudness as a body, its peak as a line, and what is proposed as a hollow end."""

    def __init__(self, bench: Bench, reviewing: Reviewing) -> None:
        super().__init__()
        self._bench = bench
        self._reviewing = reviewing
        self.theme = themes.DAYLIGHT
        self._range_db = _LEAST_RANGE_DB
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(90)
        keep_keys(self)
        self.setAccessibleName("Parts")
        reviewing.changed.connect(self._refresh)

    def _refresh(self) -> None:
        part, work = self._reviewing.part, self._bench.work
        self.setAccessibleDescription(
            described(part, self._reviewing.chosen + 1, work.rate) if part and work else "No parts"
        )
        self.update()

    def column(self, index: int) -> QRectF:
        """Return where a part's column is."""
        count = max(1, len(self._reviewing.parts))
        width = min(_WIDEST, max(_NARROWEST, (self.width() - 24) / count))
        return QRectF(12 + index * width, 4, width, self.height() - 4 - _FOOT)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose the part under the pointer."""
        width = self.column(0).width()
        self._reviewing.choose(int((event.position().x() - 12) // width))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Step from part to part."""
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event.key() in steps:
            self._reviewing.step(steps[Qt.Key(event.key())])
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the columns."""
        theme, parts = self.theme, self._reviewing.parts
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.color("paper"))
        painter.setFont(themes.font(11))
        if not parts:
            painter.setPen(theme.color("faint"))
            words = "Measuring the parts…" if self._reviewing.job else "Nothing to review."
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, words)
            return
        top_db = max(0.0, *(part.peak_dbfs for part in parts))
        audible = [part.loudness_lufs for part in parts if part.loudness_lufs > -70]
        self._range_db = max(_LEAST_RANGE_DB, top_db - min(audible, default=0.0) + _BELOW_DB)
        usual = [part.loudness_lufs + part.proposed_db for part in parts if not part.is_peak]
        self._line(painter, top_db, 0.0, "rule", "0 dBFS")
        self._line(painter, top_db, sorted(usual)[len(usual) // 2] if usual else -23.0, "mended", "usual")
        for index, part in enumerate(parts):
            self._draw(painter, self.column(index), part, index, top_db)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.color("mended"), 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))

    def _y(self, rect: QRectF, top_db: float, level_db: float) -> float:
        return rect.top() + rect.height() * min(1.0, max(0.0, (top_db - level_db) / self._range_db))

    def _line(self, painter: QPainter, top_db: float, level_db: float, color: str, word: str) -> None:
        y = self._y(self.column(0), top_db, level_db)
        painter.setPen(QPen(self.theme.color(color), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(12, y), QPointF(self.width() - 60, y))
        top = min(max(y - 8, 2.0), self.height() - 18.0)
        painter.drawText(QRectF(self.width() - 56, top, 52, 16), Qt.AlignmentFlag.AlignVCenter, word)

    def _draw(self, painter: QPainter, rect: QRectF, part: Part, index: int, top_db: float) -> None:
        theme = self.theme
        is_chosen = index == self._reviewing.chosen
        if is_chosen:
            tint = theme.color("selection")
            tint.setAlphaF(_TINT)
            painter.fillRect(rect.adjusted(0, -4, 0, _FOOT), tint)
        inner = rect.adjusted(1.5, 0, -1.5, 0) if rect.width() > 6 else rect
        peak_y = self._y(rect, top_db, part.peak_dbfs)
        if part.is_peak:
            painter.setPen(QPen(theme.color("wrong"), 2))
            painter.drawLine(QPointF(inner.center().x(), peak_y), QPointF(inner.center().x(), rect.bottom()))
            draw_glyph(
                painter, Family.LEVELS, QPointF(inner.center().x(), rect.bottom() + 8), 9, theme.color("wrong"), True
            )
            return
        body_y = self._y(rect, top_db, part.loudness_lufs)
        painter.fillRect(QRectF(inner.left(), peak_y, inner.width(), rect.bottom() - peak_y), theme.color("envelope"))
        painter.fillRect(QRectF(inner.left(), body_y, inner.width(), rect.bottom() - body_y), theme.color("body"))
        if part.proposed_db:
            after = self._y(rect, top_db, part.loudness_lufs + part.proposed_db)
            painter.setPen(QPen(theme.color("wrong"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(inner.left(), min(after, body_y), inner.width() - 1, abs(after - body_y)))
            if rect.width() >= 26:
                painter.setPen(theme.color("wrong"))
                painter.drawText(
                    QRectF(rect.left(), rect.bottom(), rect.width(), _FOOT),
                    Qt.AlignmentFlag.AlignCenter,
                    f"{part.proposed_db:+g}".replace("-", "−"),
                )


class LevelReview(QWidget):
    """The chart, the chosen part in words, and what can be done with it."""

    def __init__(self, bench: Bench, reviewing: Reviewing, buttons: list[QPushButton]) -> None:
        super().__init__()
        self._bench = bench
        self._reviewing = reviewing
        self.setAccessibleName("Level review")
        heading = QLabel("Level review")
        heading.setProperty("role", "heading")
        self.words = QLabel()
        self.words.setProperty("role", "faint")
        self.chart = LevelChart(bench, reviewing)
        head = QHBoxLayout()
        head.addWidget(heading)
        head.addSpacing(12)
        head.addWidget(self.words, 1)
        for button in buttons:
            head.addWidget(button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 12, 8)
        layout.setSpacing(6)
        layout.addLayout(head)
        layout.addWidget(self.chart, 1)
        reviewing.changed.connect(self._refresh)

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.chart.theme = theme
        self.chart.update()

    def _refresh(self) -> None:
        self.setVisible(self._reviewing.is_open)
        part, work = self._reviewing.part, self._bench.work
        self.words.setText(described(part, self._reviewing.chosen + 1, work.rate) if part and work else "")
