"""The header: which recording, the transport, what is heard, and the meters."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QAction, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QLabel, QPushButton, QToolButton, QWidget

from umbrick.core.units import SILENCE_DBFS, format_clock, format_db, format_integer
from umbrick.playback.meter import Reading
from umbrick.playback.programme import Hearing
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.listening import Listening

_LOWEST_DB, _HIGHEST_DB = -60.0, 12.0
_WIDE = 1200
"""Pixels from which the whole header fits."""


class MeterView(QWidget):
    """Peak with hold, true peak, short-term loudness, and how many samples passed full scale; a click resets."""

    def __init__(self, listening: Listening) -> None:
        super().__init__()
        self._listening = listening
        self._reading = Reading()
        self.theme = themes.DAYLIGHT
        self.setMinimumWidth(170)
        self.setToolTip(
            "Peak, true peak (highest so far), short-term loudness, samples over full scale. Click to reset."
        )
        listening.ticked.connect(self._ticked)
        listening.changed.connect(lambda: self._ticked(0, listening.reading))

    def sizeHint(self) -> QSize:
        """Return the usual size."""
        return QSize(320, 36)

    @property
    def text(self) -> str:
        """What the meter says."""
        r = self._reading
        loudness = "−∞ LUFS" if r.short_term_lufs <= SILENCE_DBFS else format_db(r.short_term_lufs, "LUFS")
        return f"peak {format_db(r.held_dbfs, '')} · true peak {format_db(r.true_peak_dbtp, '')} · {loudness}"

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Reset."""
        self._listening.engine.reset_meters()
        self._ticked(0, self._listening.reading)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the figures and the bar."""
        theme, r = self.theme, self._reading
        painter = QPainter(self)
        painter.setFont(themes.font(11))
        painter.setPen(theme.color("faint"))
        line = QRectF(0, 0, self.width(), 16)
        over = f"over {format_integer(r.over)}"
        room = self.width() - painter.fontMetrics().horizontalAdvance(over) - 12
        words = self.text.split(" · ")
        while len(words) > 1 and painter.fontMetrics().horizontalAdvance(" · ".join(words)) > room:
            words.pop()
        painter.drawText(line, Qt.AlignmentFlag.AlignVCenter, " · ".join(words))
        painter.setPen(theme.color("wrong" if r.over else "faint"))
        painter.drawText(line, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, over)
        bar = QRectF(0.5, 20.5, self.width() - 1, 8)
        painter.fillRect(bar, theme.color("raised"))
        full = self._x(0.0)
        level = self._x(r.peak_dbfs)
        painter.fillRect(QRectF(1, 21, min(level, full), 7), theme.color("body"))
        if level > full:
            painter.fillRect(QRectF(1 + full, 21, level - full, 7), theme.color("wrong"))
        painter.setPen(QPen(theme.color("wrong"), 1))
        painter.drawLine(QPointF(round(full) + 0.5, 19), QPointF(round(full) + 0.5, 31))
        if r.held_dbfs > _LOWEST_DB:
            painter.setPen(QPen(theme.color("ink"), 1))
            held = round(self._x(r.held_dbfs)) + 0.5
            painter.drawLine(QPointF(held, 20), QPointF(held, 29))
        painter.setPen(QPen(theme.color("rule"), 1))
        painter.drawRect(bar)

    def _x(self, level_db: float) -> float:
        share = (level_db - _LOWEST_DB) / (_HIGHEST_DB - _LOWEST_DB)
        return min(max(0.0, share), 1.0) * (self.width() - 2)

    def _ticked(self, _: int, reading: Reading) -> None:
        self._reading = reading
        self.setAccessibleName(f"Meters: {self.text}, over {reading.over}")
        self.update()


class Header(QWidget):
    """The bar under the menus. Its buttons are the commands' own actions."""

    def __init__(self, bench: Bench, listening: Listening, actions: dict[str, QAction]) -> None:
        super().__init__()
        self._bench = bench
        self._listening = listening
        self.recordings = QComboBox()
        self.recordings.setAccessibleName("Recording")
        self.recordings.setMinimumWidth(170)
        self.recordings.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.recordings.activated.connect(lambda index: bench.show_work(bench.works[index]))
        self.form = QLabel()
        self.form.setProperty("role", "faint")
        self.meter = MeterView(listening)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 8, 16, 8)
        layout.setSpacing(6)
        layout.addWidget(self.recordings)
        layout.addWidget(self.form)
        layout.addStretch(1)
        for name in ("to_start", "play", "loop"):
            button = QToolButton()
            button.setDefaultAction(actions[name])
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonIconOnly)
            button.setIconSize(QSize(18, 18))
            button.setFixedSize(34, 28)
            layout.addWidget(button)
        layout.addSpacing(10)
        self.hear_buttons: dict[Hearing, QPushButton] = {}
        group = QButtonGroup(self)
        hear = QLabel("Hear")
        hear.setProperty("role", "faint")
        layout.addWidget(hear)
        for hearing, text, hint in (
            (Hearing.BEFORE, "Before", "The recording as it was opened (B flips before and after)"),
            (Hearing.AFTER, "After", "With the mends, and the chosen candidate (B flips before and after)"),
            (Hearing.RESIDUE, "Residue", "What the mends took out: before minus after (R)"),
        ):
            choice = QPushButton(text)
            choice.setCheckable(True)
            choice.setToolTip(hint)
            choice.setMinimumWidth(74)
            choice.setFixedHeight(28)
            choice.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            choice.clicked.connect(lambda _, hearing=hearing: listening.hear(hearing))
            group.addButton(choice)
            layout.addWidget(choice)
            self.hear_buttons[hearing] = choice
        match = QToolButton()
        match.setDefaultAction(actions["match"])
        match.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextOnly)
        match.setFixedHeight(28)
        layout.addWidget(match)
        layout.addStretch(1)
        layout.addWidget(self.meter)
        bench.recordings_changed.connect(self._refresh)
        bench.recording_changed.connect(self._refresh)
        bench.edited.connect(self._refresh_names)
        bench.learned.connect(self._refresh_names)
        listening.changed.connect(self._refresh_hearing)
        self._refresh()
        self._refresh_hearing()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Leave the recording's format out where there is no room for it; its tooltip always tells."""
        self.form.setVisible(self.width() >= _WIDE)

    def _refresh(self) -> None:
        self.recordings.clear()
        self.recordings.addItems([opened.name for opened in self._bench.works])
        self.recordings.setEnabled(bool(self._bench.works))
        work = self._bench.work
        for button in self.hear_buttons.values():
            button.setEnabled(work is not None)
        if work is None:
            self.form.setText("")
            return
        self._refresh_names()
        self.recordings.setCurrentIndex(self._bench.works.index(work))
        channels = {1: "mono", 2: "stereo"}.get(work.channels, f"{work.channels} channels")
        length = format_clock(work.frames, work.rate, 1)
        self.recordings.setToolTip(str(work.home))
        self.form.setText(f"{work.rate / 1000:g} kHz · {work.recording.format.name} · {channels} · {length}")

    def _refresh_names(self) -> None:
        for index, work in enumerate(self._bench.works):
            self.recordings.setItemText(index, work.name + (" *" if work.has_unsaved_mends else ""))

    def _refresh_hearing(self) -> None:
        self.hear_buttons[self._listening.hearing].setChecked(True)
