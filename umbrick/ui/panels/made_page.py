"""The settings of a mend that was made: each value typed computes it again."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from umbrick.core.errors import ParameterError
from umbrick.core.mend.registry import method_named
from umbrick.core.units import format_clock
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.lifting import Lifting
from umbrick.ui.panels.scrolled import scrolled
from umbrick.ui.panels.setting_fields import SettingFields
from umbrick.ui.theme import emphasised


class MadePage(QWidget):
    """Follows the mend that is chosen in the ledger."""

    left = Signal()
    """The person has done with typing: the keyboard is free."""

    def __init__(self, bench: Bench, lifting: Lifting) -> None:
        super().__init__()
        self._bench = bench
        self._lifting = lifting
        self._shown = ""
        heading = QLabel("Treatment")
        heading.setProperty("role", "heading")
        self.what = QLabel()
        self.what.setWordWrap(True)
        self.settings = SettingFields()
        self.settings.typed.connect(self._typed)
        self.settings.left.connect(self.left)
        self.note = QLabel()
        self.note.setProperty("role", "note")
        self.note.setWordWrap(True)
        self.usual = QPushButton("As usual")
        self.usual.setToolTip("The settings that this method has by itself")
        self.usual.clicked.connect(lambda: self._make_again({}))
        self.done = QPushButton("Done")
        self.done.clicked.connect(lambda: lifting.set_shows_settings(False))
        scroll, inner = scrolled()
        inner.setSpacing(8)
        for widget in (self.what, self.settings, self.note):
            inner.addWidget(widget)
        inner.addStretch()
        foot = QHBoxLayout()
        foot.addWidget(self.usual)
        foot.addWidget(self.done)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 12, 12)
        layout.setSpacing(8)
        layout.addWidget(heading)
        layout.addWidget(scroll, 1)
        layout.addLayout(foot)
        lifting.changed.connect(self._refresh)
        bench.edited.connect(self._refresh)

    def _refresh(self) -> None:
        mend, work = self._lifting.mend_shown(), self._bench.work
        if mend is None or work is None or self._lifting.reason_not_to_change():
            return
        method = method_named(mend.method)
        self.what.setText(
            f"{emphasised(method.title)} at {format_clock(mend.start, work.rate)}, as a line of the ledger"
        )
        self.note.setText(f"{method.summary} What is typed here computes it again; undo takes that back.")
        self.settings.show_settings(method.parameters, method.checked(mend.parameters))

    def _typed(self, name: str, text: str) -> None:
        mend = self._lifting.mend_shown()
        if mend is None:
            return
        try:
            settings = method_named(mend.method).checked(mend.parameters | {name: text})
        except ParameterError as error:
            self._bench.failed.emit(str(error))
            self.settings.refuse(name)
            return
        self._make_again(settings)

    def _make_again(self, settings: dict[str, object]) -> None:
        mend = self._lifting.mend_shown()
        if mend is None:
            return
        if reason := self._lifting.reason_not_to_change():
            self._bench.failed.emit(reason)
            return
        settings = method_named(mend.method).checked(settings)  # type: ignore[arg-type]
        if settings != mend.parameters:
            self._lifting.make_again(settings)
