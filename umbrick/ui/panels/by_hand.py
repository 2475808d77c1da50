"""The treatment of a selection: its edges as typed values, and what can be done to it by hand."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from umbrick.core.errors import ParameterError
from umbrick.core.mend.levelling.fade import SHAPES
from umbrick.core.mend.levelling.level_curve import HIGHEST_DB, LOWEST_DB
from umbrick.core.units import amplitude_to_db, channel_name, format_clock, format_db, format_length, parse_db
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.hand.handwork import Handwork
from umbrick.ui.hand.levelling import Levelling, new_peak
from umbrick.ui.hand.pasting import Pasting
from umbrick.ui.hand.selecting import Selecting
from umbrick.ui.own_keys import keep_keys
from umbrick.ui.panels.scrolled import scrolled
from umbrick.ui.panels.spectrum_picture import SpectrumPicture
from umbrick.ui.panels.typed_field import TypedField

_PEAK_AFTER_MS = 150
_SHAPE_NAMES = {"linear": "linear", "equal_power": "equal power", "s": "S", "log": "logarithmic"}


class ByHand(QWidget):
    """Follows the selection, and the copy that is carried."""

    left = Signal()
    """The person has done with typing: the keyboard is free."""

    def __init__(
        self,
        bench: Bench,
        selecting: Selecting,
        handwork: Handwork,
        pasting: Pasting,
        levelling: Levelling,
        buttons: dict[str, QPushButton],
    ) -> None:
        super().__init__()
        self._bench = bench
        self._selecting = selecting
        self._handwork = handwork
        self._pasting = pasting
        self._levelling = levelling
        self._peaking: Job | None = None
        self._peak_timer = QTimer(self, singleShot=True, interval=_PEAK_AFTER_MS)
        self._peak_timer.timeout.connect(self._measure_peak)
        heading = QLabel("Treatment")
        heading.setProperty("role", "heading")
        self.what = QLabel()
        self.what.setWordWrap(True)
        self.start, self.stop, self.length = (TypedField(name) for name in ("Start", "End", "Length"))
        for field, which in ((self.start, "start"), (self.stop, "stop"), (self.length, "length")):
            field.typed.connect(lambda text, field=field, which=which: self._type_in(field, which, text))
        typed = self._grid(("Start", self.start), ("End", self.stop), ("Length", self.length))

        self.gain = TypedField("Level change", "0 dB")
        self.ramp = TypedField("Ramps", f"{handwork.ramp_ms:g} ms")
        self.gain.textEdited.connect(lambda _: self._peak_timer.start())
        self.gain.typed.connect(lambda _: self._level())
        self.ramp.typed.connect(self._set_ramp)
        for field in (self.start, self.stop, self.length, self.gain, self.ramp):
            field.left.connect(self.left)
        self.new_peak = QLabel()
        self.new_peak.setProperty("role", "faint")
        self.new_peak.setWordWrap(True)
        self.level = QPushButton("Change the level")
        self.level.setAutoDefault(False)
        self.level.clicked.connect(self._level)
        level = self._grid(("Level by", self.gain), ("Ramps", self.ramp))

        self.shape = QComboBox()
        self.shape.setAccessibleName("Shape of fades")
        for name in SHAPES:
            self.shape.addItem(_SHAPE_NAMES[name], name)
        self.shape.setCurrentIndex(self.shape.findData(handwork.fade_shape))
        self.shape.activated.connect(self._set_shape)
        keep_keys(self.shape)
        self.to_tone = QCheckBox("to the room tone")
        self.to_tone.setToolTip("Fades go over into more of the nearest pause, instead of into silence")
        self.to_tone.toggled.connect(self._set_to_tone)

        self.spectrum = SpectrumPicture(bench)
        self.carried = QLabel()
        self.carried.setProperty("role", "note")
        self.carried.setWordWrap(True)
        self._carry_buttons = [buttons[name] for name in ("fit", "drop")]
        scroll, inner = scrolled()
        inner.setSpacing(6)
        inner.addLayout(typed)
        inner.addWidget(self.carried)
        inner.addLayout(_row(*self._carry_buttons))
        inner.addWidget(self.spectrum)
        inner.addWidget(_rule())
        inner.addWidget(_title("Take out"))
        inner.addLayout(_row(buttons["splice"], buttons["keep_length"]))
        inner.addLayout(_row(buttons["seam_desk"], buttons["carry"]))
        inner.addWidget(_rule())
        inner.addWidget(_title("Level"))
        inner.addLayout(level)
        inner.addWidget(self.new_peak)
        inner.addLayout(_row(self.level, buttons["level_curve"]))
        inner.addWidget(_rule())
        inner.addWidget(_title("Fade"))
        inner.addWidget(self.shape)
        inner.addWidget(self.to_tone)
        inner.addLayout(_row(buttons["fade_in"], buttons["fade_out"]))
        inner.addWidget(buttons["soften"])
        inner.addWidget(_rule())
        inner.addWidget(_title("Length and loop"))
        for name in ("keep_only", "exact_length", "loop_check"):
            inner.addWidget(buttons[name])
        inner.addStretch()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 12, 12)
        layout.setSpacing(6)
        layout.addWidget(heading)
        layout.addWidget(self.what)
        layout.addWidget(scroll, 1)
        for signal in (
            bench.place_changed,
            bench.recording_changed,
            bench.edited,
            bench.learned,
            selecting.changed,
            pasting.changed,
        ):
            signal.connect(self._refresh)
        self._refresh()

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.spectrum.set_theme(theme)

    def focus_start(self) -> None:
        """Have the keyboard type the selection's start."""
        self._focus(self.start)

    def focus_gain(self) -> None:
        """Have the keyboard type a level change."""
        self._focus(self.gain)

    @staticmethod
    def _focus(field: QLineEdit) -> None:
        field.setFocus(Qt.FocusReason.ShortcutFocusReason)
        field.selectAll()

    @staticmethod
    def _grid(*rows: tuple[str, QWidget]) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        for row, (text, field) in enumerate(rows):
            grid.addWidget(QLabel(text), row, 0)
            grid.addWidget(field, row, 1)
        grid.setColumnStretch(1, 1)
        return grid

    def _type_in(self, field: TypedField, which: str, text: str) -> None:
        try:
            self._selecting.type_in(**{which: text})
        except ParameterError as error:
            self._bench.failed.emit(str(error))
            field.refuse()
        else:
            self._refresh()

    def _gain_db(self) -> float:
        gain_db = parse_db(self.gain.text())
        if not LOWEST_DB <= gain_db <= HIGHEST_DB:
            raise ParameterError(f"Type a level change from {LOWEST_DB:g} to {HIGHEST_DB:g} dB.")
        return gain_db

    def _level(self) -> None:
        try:
            gain_db = self._gain_db()
        except ParameterError as error:
            self._bench.failed.emit(str(error))
            self.gain.refuse()
            return
        if self._levelling.chosen is not None:
            self._levelling.type_node(gain_db)
        else:
            self._handwork.level(gain_db)

    def _set_ramp(self, text: str) -> None:
        work = self._bench.work
        try:
            frames = self._selecting.frames_of(text)
            if frames < 1:
                raise ParameterError("A ramp is at least one sample long.")
        except ParameterError as error:
            self._bench.failed.emit(str(error))
            self.ramp.refuse()
            return
        if work is not None:
            self._handwork.ramp_ms = max(0.5, min(1000.0 * frames / work.rate, 10_000.0))

    def _set_shape(self, index: int) -> None:
        self._handwork.fade_shape = self.shape.itemData(index)

    def _set_to_tone(self, to_tone: bool) -> None:
        self._handwork.fades_to_tone = to_tone

    def _measure_peak(self) -> None:
        """Show the peak that the level change would give, before it is made."""
        work = self._bench.work
        place = work.place() if work else None
        try:
            gain_db = self._gain_db()
        except ParameterError as error:
            self.new_peak.setText(str(error))
            return
        if work is None or place is None:
            return
        if self._peaking is not None:
            self._peaking.cancel()
        version, ramp_ms = work.version, self._handwork.ramp_ms
        self._peaking = self._bench.jobs.start(
            "measuring a new peak",
            lambda _: new_peak(version, place, gain_db, ramp_ms),
            self._show_peak,
            failed=self.new_peak.setText,
        )

    def _show_peak(self, peak: float) -> None:
        level_db = amplitude_to_db(peak)
        over = " It passes full scale: save it lower, or as float." if level_db > 0 else ""
        self.new_peak.setText(f"New peak {format_db(level_db)}.{over}")

    def _refresh(self) -> None:
        work = self._bench.work
        if work is None:
            return
        start, stop = work.selection.span if work.selection else (work.cursor, work.cursor)
        length = format_length(stop - start, work.rate)
        on = ""
        if work.channels > 1:
            every = len(work.selected_channels) == work.channels
            on = ", all channels" if every else f", {channel_name(work.selected_channels[0], work.channels)} only"
        self.what.setText(f"Selected {length}{on}." if work.selection else "Nothing is selected: type it, or drag.")
        edges = (self.start, start), (self.stop, stop)
        for field, frame in edges:
            field.show_value(format_clock(frame, work.rate, 4))
        self.length.show_value(f"{stop - start} smp")
        carried = self._pasting.in_words()
        self.carried.setText(f"Carrying a {carried}. Drag it, or ← → by samples; ↑ ↓ level; I turns it over.")
        for widget in (self.carried, *self._carry_buttons):
            widget.setVisible(bool(carried))
        self.new_peak.setText("")


def _row(*widgets: QWidget) -> QHBoxLayout:
    row = QHBoxLayout()
    row.setSpacing(6)
    for widget in widgets:
        # Both as wide as there is room for, whatever is written on them.
        widget.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        row.addWidget(widget, 1)
    return row


def _title(text: str) -> QLabel:
    label = QLabel(text)
    label.setProperty("role", "faint")
    return label


def _rule() -> QFrame:
    rule = QFrame()
    rule.setProperty("role", "rule")
    return rule
