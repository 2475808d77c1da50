"""The first look: what had better be done and why, switched and heard before anything is done."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.course.acting import told
from umbrick.core.first_look.proposal import Proposal
from umbrick.core.units import format_clock, format_count
from umbrick.playback.programme import Hearing
from umbrick.ui.bench.listening import Listening
from umbrick.ui.bench.looking import Looked, Looking
from umbrick.ui.dialogs.foot import Foot, sheet_layout
from umbrick.ui.panels.scrolled import scrolled
from umbrick.ui.theme import emphasised

_INDENT = 32
_HEARD = {Hearing.BEFORE: "before", Hearing.AFTER: "after", Hearing.RESIDUE: "residue"}


class _Row(QFrame):
    """One proposal: a tick, its reason, what it was measured to change, and a button to hear it alone."""

    switched = Signal()
    alone_wanted = Signal()
    chosen = Signal()

    def __init__(self, proposal: Proposal) -> None:
        super().__init__()
        self.setProperty("role", "step")
        self.tick = QCheckBox()
        self.tick.setAccessibleName(proposal.title)
        title = QLabel(emphasised(proposal.title))
        amount = QLabel(told(proposal.step) if proposal.step is not None else "")
        amount.setProperty("role", "faint")
        for label in (title, amount):
            label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.tick.setChecked(proposal.is_advised)
        self.tick.setEnabled(proposal.can_be_done)
        self.tick.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.tick.toggled.connect(self.switched)
        self.alone = QPushButton()
        self.alone.setProperty("role", "plain")
        self.alone.setCheckable(True)
        self.alone.setAutoDefault(False)
        self.alone.setEnabled(proposal.can_be_done)
        self.alone.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.alone.setToolTip(f"Hear “{proposal.title}” without the others (A)")
        self.alone.clicked.connect(self.alone_wanted)
        head = QHBoxLayout()
        head.setSpacing(6)
        head.addWidget(self.tick)
        head.addWidget(title)
        head.addWidget(amount)
        head.addStretch()
        head.addWidget(self.alone)
        left_out = "" if proposal.is_advised else "Better left out. "
        self.reason = QLabel(f"{left_out}{proposal.reason}")
        self.expected = QLabel(proposal.expected)
        self.expected.setProperty("role", "faint")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 5, 8, 6)
        layout.setSpacing(1)
        layout.addLayout(head)
        for label in (self.reason, self.expected):
            label.setWordWrap(True)
            label.setVisible(bool(label.text()))
            label.setContentsMargins(_INDENT, 0, 0, 0)
            layout.addWidget(label)

    def set_chosen(self, is_chosen: bool) -> None:
        """Show whether keys mean this row."""
        self.setProperty("role", "chosen_step" if is_chosen else "step")
        self.style().polish(self)
        self.alone.setText("Alone  A" if is_chosen else "Alone")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Have keys mean this row."""
        self.chosen.emit()


class FirstLookDialog(QDialog):
    """Lists the proposals; what is ticked is heard on some moments of the recording, and done on Enter.

    Up and Down choose a row, X switches it, A plays it alone; Space plays and stops, B and R switch to before and
    residue, 1 to 3 play from a moment.
    """

    def __init__(self, looked: Looked, looking: Looking, listening: Listening, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("First look")
        self.setMinimumSize(720, 560)
        self.resize(780, 680)
        self._looked, self._looking, self._listening = looked, looking, listening
        self._alone: int | None = None
        proposals = looked.look.proposals
        self.heading = QLabel()
        self.heading.setProperty("role", "heading")
        self.heading.setWordWrap(True)
        about = QLabel(
            "Nothing is done before you say so. It is then one step, and each mend and step can be lifted off."
        )
        about.setProperty("role", "faint")
        about.setWordWrap(True)
        self.rows = [_Row(proposal) for proposal in proposals]
        self._scroll, box = scrolled()
        box.setSpacing(6)
        for number, row in enumerate(self.rows):
            row.switched.connect(self._switched)
            row.alone_wanted.connect(lambda number=number: self.hear_alone(number))
            row.chosen.connect(lambda number=number: self.choose(number))
            box.addWidget(row)
        box.addStretch()
        self.moments = []
        for number, moment in enumerate(looked.look.moments):
            clock = format_clock(moment.start, looked.work.rate, 0)
            text = f"{moment.name.capitalize()} {clock}  {number + 1}"
            self.moments.append(self._small(text, partial(listening.play_moment, number)))
        self.play = self._small("Play  Space", self._toggle)
        self.flip = self._small("Before  B", listening.flip)
        self.flip.setCheckable(True)
        self.residue = self._small("Residue  R", self._hear_residue)
        self.residue.setCheckable(True)
        self.heard = QLabel()
        self.heard.setProperty("role", "faint")
        listen = QHBoxLayout()
        for button in (self.play, *self.moments, self.flip, self.residue):
            listen.addWidget(button)
        listen.addStretch()
        self.foot = Foot(self, "")
        self.foot.insertWidget(0, self.heard, 1)
        layout = sheet_layout(self)
        layout.addWidget(self.heading)
        layout.addWidget(about)
        layout.addWidget(self._scroll, 1)
        layout.addLayout(listen)
        layout.addLayout(self.foot)
        self.chosen = 0
        self.choose(0)
        listening.changed.connect(self._refresh)
        looking.heard_changed.connect(self._refresh)
        self._hear()
        self._refresh()
        # Not on the button: Space plays.
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFocus()

    @property
    def numbers(self) -> frozenset[int]:
        """The numbers of the proposals that are ticked."""
        return frozenset(number for number, row in enumerate(self.rows) if row.tick.isChecked())

    def choose(self, number: int) -> None:
        """Have keys mean another row."""
        if self.rows:
            self.chosen = min(max(0, number), len(self.rows) - 1)
            for other, row in enumerate(self.rows):
                row.set_chosen(other == self.chosen)
            self._scroll.ensureWidgetVisible(self.rows[self.chosen], 0, 8)

    def hear_alone(self, number: int) -> None:
        """Hear one proposal without the others; the same again ends that."""
        if self.rows[number].alone.isEnabled():
            self._alone = None if self._alone == number else number
            self._hear()
            self._refresh()

    def done(self, result: int) -> None:
        """Close; the recording is heard again."""
        self._listening.changed.disconnect(self._refresh)
        self._looking.heard_changed.disconnect(self._refresh)
        self._looking.leave()
        super().done(result)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Do what a key means here."""
        keys: dict[int, Callable[[], None]] = {
            Qt.Key.Key_Up: lambda: self.choose(self.chosen - 1),
            Qt.Key.Key_Down: lambda: self.choose(self.chosen + 1),
            Qt.Key.Key_X: self._switch,
            Qt.Key.Key_A: lambda: self.hear_alone(self.chosen) if self.rows else None,
            Qt.Key.Key_Space: self._toggle,
            Qt.Key.Key_B: self._listening.flip,
            Qt.Key.Key_R: self._hear_residue,
            Qt.Key.Key_1: lambda: self._listening.play_moment(0),
            Qt.Key.Key_2: lambda: self._listening.play_moment(1),
            Qt.Key.Key_3: lambda: self._listening.play_moment(2),
        }
        if event.modifiers() == Qt.KeyboardModifier.NoModifier and event.key() in keys:
            keys[event.key()]()
        else:
            super().keyPressEvent(event)

    def _small(self, text: str, run: Callable[[], None]) -> QPushButton:
        button = QPushButton(text)
        button.setAutoDefault(False)
        button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        button.clicked.connect(lambda _: run())
        return button

    def _toggle(self) -> None:
        if self._listening.is_playing:
            self._listening.stop()
        else:
            self._listening.play_moment(0)

    def _hear_residue(self) -> None:
        is_residue = self._listening.hearing is Hearing.RESIDUE
        self._listening.hear(Hearing.AFTER if is_residue else Hearing.RESIDUE)

    def _switch(self) -> None:
        if self.rows and self.rows[self.chosen].tick.isEnabled():
            self.rows[self.chosen].tick.toggle()

    def _switched(self) -> None:
        self._alone = None
        self._hear()
        self._refresh()

    def _hear(self) -> None:
        numbers = self.numbers if self._alone is None else frozenset({self._alone})
        self._looking.hear(self._looked, numbers)

    def _refresh(self) -> None:
        count, listening = len(self.numbers), self._listening
        advised = len(self._looked.look.advised)
        left = len(self.rows) - advised
        also = f", {left} better left out" if left else ""
        self.heading.setText(f"{format_count(advised, 'thing') if advised else 'Nothing'} proposed{also}")
        self.play.setText("Stop  Space" if listening.is_playing else "Play  Space")
        self.flip.setChecked(listening.hearing is Hearing.BEFORE)
        self.residue.setChecked(listening.hearing is Hearing.RESIDUE)
        for number, row in enumerate(self.rows):
            row.alone.setChecked(number == self._alone)
        what = "what is ticked" if self._alone is None else self._looked.look.proposals[self._alone].title
        heard = f"Heard: {_HEARD[listening.hearing]}, {what}"
        self.heard.setText("Being worked out…" if self._looking.is_working_out else heard)
        self.foot.accept.setText(f"Do {count}  Enter" if count else "Nothing is ticked")
        self.foot.accept.setEnabled(count > 0)
