"""The status line: what just happened, and what is under the pointer."""

from __future__ import annotations

import time
from collections.abc import Callable
from fractions import Fraction

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QWidget

from umbrick.core.units import amplitude_to_db, format_clock, format_count, format_db, format_integer, format_length
from umbrick.core.view.frequency_scale import note_at
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.listening import Listening
from umbrick.ui.bench.notice import Notice
from umbrick.ui.bench.viewing import Pointed, Viewing
from umbrick.ui.hand.selecting import Selecting
from umbrick.ui.own_keys import keep_keys
from umbrick.ui.panels.sentence import Sentence
from umbrick.ui.theme import emphasised
from umbrick.work.timing_debt import debt_explained, debt_of

_ESTIMATE_AFTER_SECONDS = 1.0
_LEAST_WIDTH = 700


def _roughly(seconds: float) -> str:
    return f"{max(1, round(seconds))} s" if seconds < 90 else f"{round(seconds / 60)} min"


class StatusLine(QWidget):
    """One line at the bottom; failures stay, in the colour for faults, until something else is said."""

    def __init__(
        self,
        bench: Bench,
        viewing: Viewing,
        listening: Listening,
        selecting: Selecting,
        ledger_button: QPushButton,
    ) -> None:
        super().__init__()
        self._bench = bench
        self._listening = listening
        self._selecting = selecting
        self.pictures_a_second: Callable[[], Fraction | None] = lambda: None
        """How many pictures come a second, where shifts are to be told in them too."""
        self.message = Sentence()
        self.job = QLabel()
        self.progress = QProgressBar(maximum=1000, textVisible=False)
        self.progress.setFixedWidth(120)
        self.stop = QPushButton("Stop  Esc")
        self.place = QLabel()
        self.selection = QLabel()
        self.output = QLabel()
        self.snap = QPushButton()
        self.snap.setProperty("role", "plain")
        self.snap.setToolTip("What edges snap to; click or press Q for the next. Ctrl turns it off while dragging.")
        self.snap.clicked.connect(selecting.next_snap)
        keep_keys(self.snap)
        for label in (self.job, self.selection, self.output):
            label.setProperty("role", "faint")
        self.place.setMinimumWidth(250)
        self.place.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.debt = QPushButton()
        self.debt.setProperty("role", "plain")
        self.debt.setToolTip("By how much the end of the recording has moved against the original. Click to see why.")
        keep_keys(self.debt)
        self.debt.clicked.connect(self._explain_debt)
        # What is told of work under way comes and goes: the window must not grow for it.
        self.setMinimumWidth(_LEAST_WIDTH)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 4, 16, 4)
        layout.setSpacing(12)
        layout.addWidget(ledger_button)
        layout.addWidget(self.debt)
        layout.addWidget(self.message, 1)
        for widget in (self.job, self.progress, self.stop, self.selection, self.place, self.snap, self.output):
            layout.addWidget(widget)
        bench.said.connect(lambda text: self.say(text, wrong=False))
        bench.failed.connect(lambda text: self.say(text, wrong=True))
        ledger_button.setProperty("role", "plain")
        self._ledger_button = ledger_button
        bench.edited.connect(self._refresh_ledger)
        bench.recording_changed.connect(self._refresh_ledger)
        bench.place_changed.connect(self._refresh)
        bench.recording_changed.connect(self._refresh)
        viewing.pointed.connect(self._point)
        listening.changed.connect(self._refresh)
        selecting.changed.connect(self._refresh)
        self._pointed: Pointed | None = None
        self._job_title = ""
        self._job_began = 0.0
        self.show_job("")
        self._refresh()
        self._refresh_ledger()

    def say(self, text: str, wrong: bool) -> None:
        """Show a sentence."""
        self.message.say(text)
        self.message.setProperty("wrong", wrong)
        self.message.style().polish(self.message)

    def show_job(self, title: str) -> None:
        """Show that work is going on, or with an empty title that it is not."""
        for widget in (self.job, self.progress, self.stop):
            widget.setVisible(bool(title))
        if title != self._job_title:
            self._job_title, self._job_began = title, time.monotonic()
            self.progress.setValue(0)
            self.job.setText(title)

    def show_progress(self, share: float) -> None:
        """Show how far the work has come, and about how long the rest will take."""
        self.progress.setValue(round(1000 * share))
        spent = time.monotonic() - self._job_began
        if share > 0 and spent > _ESTIMATE_AFTER_SECONDS:
            self.job.setText(f"{self._job_title} · about {_roughly(spent * (1 - share) / share)} left")

    def _refresh_ledger(self) -> None:
        work = self._bench.work
        for button in (self._ledger_button, self.debt):
            button.setVisible(work is not None)
        if work:
            self._ledger_button.setText(f"Ledger  F6 · {format_count(work.history.mend_count, 'mend')}")
            self.debt.setText(f"Timing debt {debt_of(work, self.pictures_a_second())}")

    def _explain_debt(self) -> None:
        if work := self._bench.work:
            self._bench.noticed.emit(Notice(debt_explained(work, self.pictures_a_second())))

    def _point(self, place: Pointed | None) -> None:
        self._pointed = place
        self._refresh()

    def _refresh(self) -> None:
        work = self._bench.work
        self.output.setText(f"sound: {self._listening.engine.output_name}")
        self.snap.setVisible(work is not None)
        self.snap.setText(f"snap: {self._selecting.snap.value}")
        if work is None:
            self.place.setText("")
            self.selection.setText("")
            return
        frame = self._pointed.frame if self._pointed else work.cursor
        parts = [emphasised(format_clock(frame, work.rate)), f"sample {format_integer(frame)}"]
        if self._pointed and self._pointed.value is not None:
            value = self._pointed.value
            parts.append(f"{value:+.6f}".replace("-", "−"))
            parts.append(format_db(amplitude_to_db(value)))
        elif self._pointed and self._pointed.hz is not None:
            parts.append(f"{self._pointed.hz:.0f} Hz {note_at(self._pointed.hz)}".strip())
            if self._pointed.level_db is not None:
                parts.append(format_db(self._pointed.level_db, "dB"))
        elif self._pointed and self._pointed.peak is not None:
            parts.append(f"peak {format_db(amplitude_to_db(self._pointed.peak))}")
        self.place.setText(" · ".join(parts))
        if work.selection:
            length = work.selection.length
            self.selection.setText(f"selected {format_count(length, 'sample')} · {format_length(length, work.rate)}")
        else:
            self.selection.setText("")
