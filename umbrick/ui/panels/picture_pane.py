"""The picture at the cursor, with its timecode and how far the sound is from it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from umbrick.core.errors import ParameterError
from umbrick.core.timecode import rate_text
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.picture import Picturing

_NOTICED = 0.02
"""Pictures by which sound and picture may be apart before it is told."""


class PicturePane(QWidget):
    """Hidden where the recording is not the sound of a video with a picture."""

    def __init__(self, bench: Bench, picturing: Picturing, buttons: list[QPushButton]) -> None:
        super().__init__()
        self._bench = bench
        self._picturing = picturing
        self.view = _Screen(picturing)
        self.field = QLineEdit()
        self.field.setAccessibleName("Timecode")
        self.field.setToolTip("Hours, minutes, seconds, pictures; type another one and press Return to go there")
        self.field.setFixedWidth(104)
        self.field.returnPressed.connect(self._go)
        self.facts = QLabel()
        self.facts.setProperty("role", "faint")
        row = QHBoxLayout()
        row.setSpacing(4)
        row.addWidget(self.field)
        for button in buttons:
            row.addWidget(button)
        row.addStretch()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 12, 0)
        layout.setSpacing(4)
        layout.addWidget(self.view)
        layout.addLayout(row)
        layout.addWidget(self.facts)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        picturing.changed.connect(self.refresh)
        self.refresh()

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.view.theme = theme
        self.view.update()

    def refresh(self) -> None:
        """Show what there is now."""
        picturing = self._picturing
        self.setVisible(picturing.has_picture)
        if not picturing.has_picture:
            return
        if not self.field.hasFocus():
            self.field.setText(picturing.timecode())
        milliseconds, pictures = picturing.sync()
        rate = picturing.rate
        apart = "in sync"
        if abs(pictures) > _NOTICED:
            late = "late" if pictures > 0 else "early"
            apart = f"sound {abs(milliseconds):.0f} ms ({abs(pictures):.1f} pictures) {late}"
        self.facts.setText(f"{rate_text(rate)} pictures a second · {apart}" if rate else "")
        self.view.update()

    def _go(self) -> None:
        try:
            self._picturing.go_to(self.field.text())
        except ParameterError as error:
            self._bench.failed.emit(str(error))
            return
        self.field.clearFocus()
        self.refresh()


class _Screen(QWidget):
    def __init__(self, picturing: Picturing) -> None:
        super().__init__()
        self._picturing = picturing
        self.theme = themes.DAYLIGHT
        self.setAccessibleName("Picture")
        self.setMinimumHeight(90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)

    def sizeHint(self) -> QSize:
        return QSize(224, 126)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.theme.color("ink"))
        image = self._picturing.image
        if image is None:
            painter.setPen(self.theme.color("paper"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "No picture here")
            return
        scale = min(self.width() / image.width(), self.height() / image.height())
        width, height = image.width() * scale, image.height() * scale
        place = QRectF(QPointF((self.width() - width) / 2, (self.height() - height) / 2), QPointF(0, 0))
        place.setSize(QRectF(0, 0, width, height).size())
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(place, image)
