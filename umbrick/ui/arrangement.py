"""How the window's parts lie beside each other, and that they lie so again at the next start."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QLabel, QPushButton, QSplitter, QStackedWidget, QVBoxLayout, QWidget

_SIDES = (252, 752, 276)
_STRIPS = (142, 310, 150, 240)
_DRAWER = (600, 160, 180)
_LEAST_DOCKET, _LEAST_TREATMENT, _LEAST_REVIEW, _LEAST_LEDGER = 200, 230, 130, 110


class Arrangement(QWidget):
    """Header above, status line below; between them docket, strips and treatment side by side over what is drawn out.

    The strips give way to a page with some buttons while there is no recording, and the lowest of them to the seam
    desk.
    """

    def __init__(
        self,
        header: QWidget,
        notices: QWidget,
        strips: Sequence[QWidget],
        lanes: QWidget,
        seam_desk: QWidget,
        picture: QWidget,
        docket: QWidget,
        treatment: QWidget,
        review: QWidget,
        ledger: QWidget,
        status: QWidget,
        first_steps: Sequence[QPushButton],
    ) -> None:
        super().__init__()
        self._lowest = _stack(strips[-1], seam_desk)
        self._strips = _splitter(Qt.Orientation.Vertical, (*strips[:-1], lanes, self._lowest), _STRIPS, {1: 3, 3: 2})
        self._pages = _stack(_empty_page(first_steps), self._strips)
        middle = _column(notices, self._pages)
        self._sides = _splitter(
            Qt.Orientation.Horizontal, (_column(picture, docket), middle, treatment), _SIDES, {1: 1}
        )
        self._drawer = _splitter(Qt.Orientation.Vertical, (self._sides, review, ledger), _DRAWER, {0: 1})
        docket.setMinimumWidth(_LEAST_DOCKET)
        treatment.setMinimumWidth(_LEAST_TREATMENT)
        review.setMinimumHeight(_LEAST_REVIEW)
        review.setVisible(False)
        ledger.setMinimumHeight(_LEAST_LEDGER)
        _column(header, self._drawer, status, on=self)

    def show_recording(self, is_there: bool) -> bool:
        """Show the strips, or else the empty page; return whether that is new."""
        was_there = self._pages.currentIndex() == 1
        self._pages.setCurrentIndex(int(is_there))
        return was_there != is_there

    def show_desk(self, is_open: bool) -> bool:
        """Show the seam desk instead of the lowest strip, or that again; return whether that is new."""
        was_open = self._lowest.currentIndex() == 1
        self._lowest.setCurrentIndex(int(is_open))
        return was_open != is_open

    def restore(self, store: QSettings) -> None:
        """Give the parts the sizes they had."""
        for name, splitter in self._splitters():
            if (state := store.value(name)) is not None:
                splitter.restoreState(state)

    def save(self, store: QSettings) -> None:
        """Keep the sizes of the parts."""
        for name, splitter in self._splitters():
            store.setValue(name, splitter.saveState())

    def _splitters(self) -> tuple[tuple[str, QSplitter], ...]:
        return ("sides", self._sides), ("strips-and-lanes", self._strips), ("drawer", self._drawer)


def _splitter(
    orientation: Qt.Orientation, parts: Sequence[QWidget], sizes: Sequence[int], stretches: dict[int, int]
) -> QSplitter:
    splitter = QSplitter(orientation)
    for part in parts:
        splitter.addWidget(part)
    splitter.setSizes(list(sizes))
    for index, stretch in stretches.items():
        splitter.setStretchFactor(index, stretch)
    splitter.setHandleWidth(1)
    splitter.setChildrenCollapsible(False)
    return splitter


def _stack(*pages: QWidget) -> QStackedWidget:
    stack = QStackedWidget()
    for page in pages:
        stack.addWidget(page)
    return stack


def _column(*parts: QWidget, on: QWidget | None = None) -> QWidget:
    """Return a widget with parts one below the other, of which the second takes all the room there is."""
    column = on or QWidget()
    layout = QVBoxLayout(column)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(0)
    for index, part in enumerate(parts):
        layout.addWidget(part, int(index == 1))
    return column


def _empty_page(first_steps: Sequence[QPushButton]) -> QWidget:
    page = QWidget()
    layout = QVBoxLayout(page)
    layout.addStretch()
    sentence = QLabel("Drop a recording here, or open one, to see and mend its faults.")
    sentence.setProperty("role", "heading")
    layout.addWidget(sentence, alignment=Qt.AlignmentFlag.AlignHCenter)
    layout.addSpacing(12)
    for button in first_steps:
        layout.addWidget(button, alignment=Qt.AlignmentFlag.AlignHCenter)
    layout.addStretch()
    return page
