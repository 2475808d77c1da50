"""A row of the course: a step with its switch, how much of it is done, and how to hear it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QSlider, QVBoxLayout

from umbrick.core.course.acting import told
from umbrick.core.course.step import STRENGTH, Step, where_told
from umbrick.core.errors import ParameterError
from umbrick.core.units import channel_name
from umbrick.ui.bench.coursing import Coursing, Ear
from umbrick.ui.own_keys import keep_keys
from umbrick.ui.panels.typed_field import TypedField
from umbrick.ui.theme import emphasised

_DRAG_PIXELS = 6


class StepRow(QFrame):
    """Shows one step. A press anywhere chooses it; a drag up or down moves it."""

    left = Signal()
    """The person has done with typing: the keyboard is free."""

    def __init__(self, coursing: Coursing) -> None:
        super().__init__()
        self._coursing = coursing
        self.name = ""
        """The step it shows."""
        self._pressed: QPointF | None = None
        self.switch = QCheckBox()
        self.switch.clicked.connect(lambda: coursing.switch(self.name))
        self.title = QLabel()
        self.alone, self.without = QPushButton("Alone"), QPushButton("Without")
        self.alone.setToolTip("Hear this step alone")
        self.without.setToolTip("Hear all but this step")
        self.off = QPushButton("✕")
        self.off.setToolTip("Take this step off")
        self.off.setAccessibleName("Take this step off")
        self.off.clicked.connect(lambda: coursing.take_off(self.name))
        head = QHBoxLayout()
        head.setSpacing(2)
        head.addWidget(self.switch)
        head.addWidget(self.title, 1)
        head.addWidget(self.off)
        middle = QHBoxLayout()
        middle.setSpacing(2)
        for button, ear in ((self.alone, Ear.ALONE), (self.without, Ear.WITHOUT)):
            button.setCheckable(True)
            button.clicked.connect(lambda _, ear=ear: coursing.hear(self.name, ear))
        for button in (self.alone, self.without, self.off):
            button.setProperty("role", "plain")
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.where = QLabel()
        self.where.setProperty("role", "faint")
        self.where.setWordWrap(True)
        middle.addWidget(self.where, 1)
        middle.addWidget(self.alone)
        middle.addWidget(self.without)
        for label in (self.title, self.where):
            label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, 100)
        self.slider.setPageStep(10)
        keep_keys(self.slider)
        self.slider.valueChanged.connect(self._slid)
        self.slider.sliderReleased.connect(coursing.keep_tried)
        self.amount = TypedField("Amount")
        self.amount.setFixedWidth(64)
        self.amount.typed.connect(self._typed)
        self.amount.left.connect(self.left)
        foot = QHBoxLayout()
        foot.addWidget(QLabel("Amount"))
        foot.addWidget(self.slider, 1)
        foot.addWidget(self.amount)
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 6, 6, 8)
        box.setSpacing(4)
        box.addLayout(head)
        box.addLayout(middle)
        box.addLayout(foot)

    def show_step(self, step: Step, number: int, rate: int, channels: int, is_chosen: bool) -> None:
        """Show a step."""
        self.name = step.id
        title = told(step)
        self.title.setText(f"{number}  {emphasised(title)}")
        self.title.setToolTip(title)
        self.switch.setChecked(step.is_on)
        self.switch.setAccessibleName(f"{title} is on")
        self.switch.setToolTip("Switch this step off" if step.is_on else "Switch this step on")
        on = (
            ""
            if len(step.channels) == channels
            else f" · {', '.join(channel_name(c, channels) for c in step.channels)}"
        )
        drawn = " · strength drawn" if step.settings[STRENGTH] else ""
        measured = " · measured on sound that has changed since" if self._coursing.has_changed_since(step) else ""
        self.where.setText(f"{where_told(step, rate)}{on}{drawn}{measured}".capitalize())
        percent = round(100 * step.amount)
        self.slider.blockSignals(True)
        self.slider.setValue(percent)
        self.slider.blockSignals(False)
        self.slider.setAccessibleName(f"Amount of {title}")
        self.amount.show_value(f"{100 * step.amount:g} %")
        ear = self._coursing.ear
        self.alone.setChecked(ear == (self.name, Ear.ALONE))
        self.without.setChecked(ear == (self.name, Ear.WITHOUT))
        role = "chosen_step" if is_chosen else "step"
        if self.property("role") != role:
            self.setProperty("role", role)
            self.style().polish(self)
        self.setAccessibleName(f"Step {number}: {title}{'' if step.is_on else ', off'}")

    def _slid(self, percent: int) -> None:
        self._coursing.try_settings(self.name, {"amount": percent / 100})
        if not self.slider.isSliderDown():
            self._coursing.keep_tried()

    def _typed(self, text: str) -> None:
        try:
            share = float(text.replace("−", "-").replace(",", ".").replace("%", "").strip()) / 100
            self._coursing.set_settings(self.name, {"amount": share})
        except (ValueError, ParameterError):
            self._coursing.refuse("An amount lies from 0 to 100 %.")
            self.amount.refuse()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose the step."""
        self._pressed = event.position()
        self._coursing.choose(self.name)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Put it where it was dragged to."""
        pressed, self._pressed = self._pressed, None
        if pressed is None or abs(event.position().y() - pressed.y()) < _DRAG_PIXELS:
            return
        parent = self.parentWidget()
        if parent is not None:
            at = self.mapTo(parent, event.position().toPoint()).y()
            rows = [row for row in parent.findChildren(StepRow) if row is not self and row.isVisible()]
            self._coursing.move(self.name, sum(row.geometry().center().y() < at for row in rows))
