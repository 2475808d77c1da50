"""The treatment of a seam: the seams proposed, how the one on the desk measures, its crossfade, and what time does."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.errors import ParameterError
from umbrick.core.measure.jumps import SeamReading
from umbrick.core.mend.cutting.crossfade import AUTO, SHAPES
from umbrick.core.mend.cutting.splice import fade_frames
from umbrick.core.units import format_db, format_length, parse_frames
from umbrick.ui.bench.bench import Bench
from umbrick.ui.hand.seaming import LOOP, Desk, Seaming
from umbrick.ui.own_keys import keep_keys
from umbrick.ui.panels.scrolled import scrolled
from umbrick.ui.panels.typed_field import TypedField

_MOST = 5
TIMES = (("close", "Close up"), ("keep", "Keep the length"), ("payback", "Close up, pay back in the next pause"))
ENDS = ((False, "Crossfade the tail into the start"), (True, "Fade the tail"))
_SHAPE_NAMES = {AUTO: "auto", "linear": "linear", "equal_power": "equal power", "s": "S"}


class SeamPage(QWidget):
    """Follows the seam desk."""

    left = Signal()
    """The person has done with typing: the keyboard is free."""

    def __init__(self, bench: Bench, seaming: Seaming, buttons: dict[str, QPushButton]) -> None:
        super().__init__()
        self._bench = bench
        self._seaming = seaming
        heading = QLabel("Treatment")
        heading.setProperty("role", "heading")
        self.what = QLabel()
        self.what.setWordWrap(True)
        self.proposals = [QPushButton() for _ in range(_MOST)]
        for number, button in enumerate(self.proposals):
            button.setCheckable(True)
            button.setProperty("role", "row")
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            button.clicked.connect(lambda _, number=number: seaming.pick(number))
        self.measured = QLabel()
        self.measured.setProperty("role", "note")
        self.measured.setWordWrap(True)
        self.crossfade = TypedField("Crossfade")
        self.crossfade.setToolTip("How long the crossfade is, such as 3 ms or 144 smp")
        self.crossfade.typed.connect(self._set_crossfade)
        self.crossfade.left.connect(self.left)
        self.curve = QComboBox()
        self.curve.setAccessibleName("Shape of the crossfade")
        for shape in (AUTO, *SHAPES):
            self.curve.addItem(_SHAPE_NAMES[shape], shape)
        self.curve.activated.connect(lambda index: seaming.set_curve(self.curve.itemData(index)))
        keep_keys(self.curve)
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        for row, (text, field) in enumerate((("Crossfade", self.crossfade), ("Shape", self.curve))):
            grid.addWidget(QLabel(text), row, 0)
            grid.addWidget(field, row, 1)
        self.times, self.ends = QButtonGroup(self), QButtonGroup(self)
        self.time_heading = QLabel("And time?")
        self.time_heading.setProperty("role", "faint")
        self._time_box = QVBoxLayout()
        self._time_box.setSpacing(2)
        self.time_buttons = {name: self._radio(self.times, text) for name, text in TIMES}
        for name, choice in self.time_buttons.items():
            choice.clicked.connect(lambda _, name=name: seaming.set_time(name))
        self.end_buttons = {fades: self._radio(self.ends, text) for fades, text in ENDS}
        for fades, choice in self.end_buttons.items():
            choice.clicked.connect(lambda _, fades=fades: seaming.set_fades_tail(fades))
        self.effect = QLabel()
        self.effect.setProperty("role", "faint")
        self.effect.setWordWrap(True)
        rule = QFrame()
        rule.setProperty("role", "rule")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 12, 12)
        layout.setSpacing(6)
        layout.addWidget(heading)
        scroll, inner = scrolled()
        inner.setSpacing(6)
        for widget in (self.what, *self.proposals, self.measured):
            inner.addWidget(widget)
        inner.addLayout(grid)
        inner.addWidget(rule)
        inner.addWidget(self.time_heading)
        inner.addLayout(self._time_box)
        inner.addWidget(self.effect)
        inner.addStretch()
        layout.addWidget(scroll, 1)
        foot = QHBoxLayout()
        foot.addWidget(buttons["make"], 3)
        foot.addWidget(buttons["leave"], 2)
        layout.addLayout(foot)
        seaming.desk_changed.connect(self._refresh)

    def _radio(self, group: QButtonGroup, text: str) -> QRadioButton:
        button = QRadioButton(text)
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        keep_keys(button)
        group.addButton(button)
        self._time_box.addWidget(button)
        return button

    def _set_crossfade(self, text: str) -> None:
        desk = self._seaming.desk
        if desk is None:
            return
        try:
            self._seaming.set_crossfade(1000.0 * parse_frames(text, desk.rate) / desk.rate)
        except ParameterError as error:
            self._bench.failed.emit(str(error))
            self.crossfade.refuse()

    def _refresh(self) -> None:
        desk = self._seaming.desk
        if desk is None:
            return
        is_loop = desk.kind == LOOP
        self.what.setText("The loop's end meets its start" if is_loop else "Proposed seams, best first")
        for number, button in enumerate(self.proposals):
            button.setVisible(number < len(desk.proposals))
            if number < len(desk.proposals):
                seam = desk.proposals[number]
                length = format_length(seam.removed, desk.rate)
                button.setText(f"{number + 1}   {length} out · score {seam.reading.score:.2f}")
                button.setToolTip(in_words(seam.reading))
                button.setChecked(number == desk.chosen)
        self.measured.setText(_measured(desk))
        self.crossfade.show_value(_crossfade(desk))
        self.curve.setCurrentIndex(self.curve.findData(desk.settings["curve"]))
        self.curve.setToolTip(f"The shape now: {_SHAPE_NAMES[desk.seam.shape]}")
        self.time_heading.setText("What mends it?" if is_loop else "And time?")
        for name, choice in self.time_buttons.items():
            choice.setVisible(not is_loop)
            choice.setChecked(name == desk.time)
        for fades, choice in self.end_buttons.items():
            choice.setVisible(is_loop)
            choice.setChecked(fades == desk.fades_tail)
        self.effect.setText(self._seaming.effect())


def in_words(reading: SeamReading) -> str:
    """Return how a seam measures, each jump against the recording's own."""
    lines = (
        ("level", format_db(reading.level_db, "dB").lstrip("+"), reading.level_share),
        ("slope", f"{reading.slope:.4f}", reading.slope_share),
        ("spectrum", format_db(reading.spectral_db, "dB").lstrip("+"), reading.spectral_share),
    )
    return "\n".join(f"{name} jumps by {value}: {_rarity(share)}" for name, value, share in lines)


def _rarity(share: float) -> str:
    if share >= 0.5:
        return "less than this recording's usual"
    if share >= 0.1:
        return "as it does by itself"
    return "rare in this recording" if share > 0 else "more than anything around"


def _measured(desk: Desk) -> str:
    text = f"Seam score {desk.seam.reading.score:.2f} (1: nothing stands out)\n{in_words(desk.seam.reading)}"
    if desk.after is not None:
        now, mended = desk.seam.reading.smoothness, desk.after.smoothness
        text = f"Seam score now {now:.2f}, mended {mended:.2f} (1: no click)\n{in_words(desk.after)}"
    return text


def _crossfade(desk: Desk) -> str:
    frames = fade_frames(desk.settings, desk.rate) if desk.kind == LOOP else desk.seam.fade
    return f"{1000.0 * frames / desk.rate:.4g} ms"
