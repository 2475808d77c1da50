"""The notice bar: above the strips, for what a person should decide about when they like."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSizePolicy, QWidget

from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.ui.own_keys import keep_keys


class NoticeBar(QWidget):
    """Shows one notice at a time, the oldest first."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.setAccessibleName("Notice")
        self.setProperty("role", "notice")
        self._waiting: list[Notice] = []
        self.text = QLabel()
        self.text.setWordWrap(True)
        self.text.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.buttons: list[QPushButton] = []
        self._layout = QHBoxLayout(self)
        self._layout.setContentsMargins(16, 6, 12, 6)
        self._layout.setSpacing(8)
        self._layout.addWidget(self.text, 1)
        bench.noticed.connect(self.show_notice)
        self.hide()

    def show_notice(self, notice: Notice) -> None:
        """Show a notice, after those that are waiting."""
        self._waiting.append(notice)
        if len(self._waiting) == 1:
            self._fill()

    def put_away(self) -> None:
        """Put the shown notice away, and show the next."""
        if self._waiting:
            self._waiting.pop(0)
            self._fill()

    def _fill(self) -> None:
        for button in self.buttons:
            self._layout.removeWidget(button)
            button.hide()
            button.deleteLater()
        self.buttons = []
        self.setVisible(bool(self._waiting))
        if not self._waiting:
            return
        notice = self._waiting[0]
        self.text.setText(notice.text)
        later = Choice("Not now" if notice.choices else "All right", lambda: None)
        for choice in (*notice.choices, later):
            button = QPushButton(choice.text)
            button.setAutoDefault(False)
            keep_keys(button)
            button.clicked.connect(lambda _=False, choice=choice: self._take(choice))
            self._layout.addWidget(button)
            self.buttons.append(button)

    def _take(self, choice: Choice) -> None:
        self.put_away()
        choice.do()
