"""The treatment panel: what is here, the candidates with small pictures, and what a mend does."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from umbrick.core.course.for_kinds import laid_for
from umbrick.core.errors import ParameterError
from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.mend.remedies import is_mendable
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.units import (
    amplitude_to_db,
    channel_name,
    format_clock,
    format_count,
    format_db,
    format_integer,
    format_length,
    format_lowering,
)
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.mending import PICTURE_RANGE_DB, Mending, Offer, Refusal
from umbrick.ui.bench.spectral_view import Wash
from umbrick.ui.hand.outlining import area_told
from umbrick.ui.panels.scrolled import scrolled
from umbrick.ui.panels.setting_fields import SettingFields
from umbrick.ui.panels.spectrum_picture import SpectrumPicture
from umbrick.ui.strips.polyline import polyline
from umbrick.ui.strips.spectrogram_ink import spectrogram_pixels
from umbrick.ui.strips.wave_image import to_image
from umbrick.ui.theme import emphasised

_AREA_KEYS = "Shift+K plays it alone, Shift+U everything but it; Ctrl+Shift+H takes its harmonics too."
_CARD_HEIGHT = 60
"""Five of them have room beside what the chosen one does to time and level."""


def _way_of(finding: Finding) -> str:
    laid = laid_for(finding)
    if laid is None:
        return "There is no method for it yet"
    return "It runs through the recording and is taken out over all of it, in the course"


class CandidateCard(QWidget):
    """One candidate: its number and name, the peak it rebuilds, and the fault with the mend drawn over it."""

    chosen = Signal(int)

    def __init__(self, index: int) -> None:
        super().__init__()
        self._index = index
        self._title = ""
        self._offer: Offer | None = None
        self._refusal = ""
        self._is_chosen = False
        self.theme = themes.DAYLIGHT
        self.setFixedHeight(_CARD_HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_candidate(self, title: str, summary: str, offer: Offer | Refusal | None, is_chosen: bool) -> None:
        """Show a candidate; ``offer`` is None while it is being computed."""
        self._title, self._is_chosen = title, is_chosen
        self._offer = offer if isinstance(offer, Offer) else None
        self._refusal = offer.reason if isinstance(offer, Refusal) else ""
        self.setToolTip(self._refusal or f"{summary} (press {self._index + 1})")
        self.setAccessibleName(
            f"Candidate {self._index + 1}: {title}, {self._figure()}{', chosen' if is_chosen else ''}"
        )
        self.update()

    def sizeHint(self) -> QSize:
        """Return the usual size."""
        return QSize(240, _CARD_HEIGHT)

    def _figure(self) -> str:
        if self._refusal:
            return "not here"
        if self._offer is None:
            return "…"
        return "" if self._offer.score is None else f"{self._offer.score:.2f}"

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose this candidate."""
        self.chosen.emit(self._index)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Choose this candidate by the space bar when it has the keyboard."""
        if event.key() == Qt.Key.Key_Space:
            self.chosen.emit(self._index)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the card."""
        theme = self.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(QPen(theme.color("mended" if self._is_chosen or self.hasFocus() else "rule"), 1))
        painter.setBrush(theme.color("raised" if self._is_chosen else "desk"))
        painter.drawRoundedRect(frame, 4, 4)
        if self._is_chosen:
            painter.drawRoundedRect(frame.adjusted(1, 1, -1, -1), 3, 3)
        line = QRectF(10, 4, self.width() - 20, 20)
        painter.setFont(themes.font(13, QFont.Weight.DemiBold))
        painter.setPen(theme.color("mended" if self._is_chosen else "faint"))
        painter.drawText(line, Qt.AlignmentFlag.AlignVCenter, str(self._index + 1))
        painter.setFont(themes.font(13, QFont.Weight.Medium))
        painter.setPen(theme.color("ink"))
        painter.drawText(line.adjusted(18, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, self._title)
        painter.setFont(themes.font(12))
        painter.setPen(theme.color("mended" if self._is_chosen else "faint"))
        painter.drawText(line, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self._figure())
        if self._offer:
            self._draw_picture(painter, QRectF(12, 27, self.width() - 24, self.height() - 33), self._offer)

    def _draw_picture(self, painter: QPainter, rect: QRectF, offer: Offer) -> None:
        if offer.levels is not None:
            pixels = spectrogram_pixels(offer.levels, self.theme, Wash.INK, *PICTURE_RANGE_DB)
            painter.drawImage(rect, to_image(pixels))
            return
        values = np.concatenate([offer.before, offer.after])
        low, high = float(values.min()), float(values.max())
        span = max(high - low, 1e-6)

        def points(samples: npt.NDArray[np.float32]) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
            x = np.linspace(rect.left(), rect.right(), len(samples))
            return x, rect.bottom() - (samples.astype(np.float64) - low) * rect.height() / span

        painter.setPen(QPen(self.theme.color("ghost"), 1))
        x, y = points(offer.before)
        painter.drawPolyline(polyline(x, y))
        x, y = points(offer.after)
        # Near the end, a mend that closes up leaves less to show than there was.
        common = min(len(offer.before), len(offer.after))
        changed = np.flatnonzero(offer.before[:common] != offer.after[:common])
        if len(changed):
            part = slice(max(0, int(changed[0]) - 1), int(changed[-1]) + 2)
            painter.setPen(QPen(self.theme.color("mended"), 1))
            for lift in (0.0, 0.7):
                painter.drawPolyline(polyline(x[part], y[part] + lift))


class Treatment(QWidget):
    """Follows the focus: says what is there, offers candidates, and says what a mend does."""

    left = Signal()
    """The person has done with typing: the keyboard is free."""

    def __init__(self, bench: Bench, mending: Mending, buttons: dict[str, QPushButton]) -> None:
        super().__init__()
        self._bench = bench
        self._mending = mending
        self.theme = themes.DAYLIGHT
        self.setAccessibleName("Treatment")
        heading = QLabel("Treatment")
        heading.setProperty("role", "heading")
        self.what = QLabel()
        self.what.setWordWrap(True)
        self.detail = QLabel()
        self.detail.setProperty("role", "faint")
        self.detail.setWordWrap(True)
        self.spectrum = SpectrumPicture(bench)
        self.spectrum.setFixedHeight(96)
        self.cards: list[CandidateCard] = []
        self._card_box = QVBoxLayout()
        self._card_box.setSpacing(5)
        self.settings = SettingFields()
        self.settings.typed.connect(self._typed)
        self.settings.left.connect(self.left)
        self.usual = QPushButton("As usual")
        self.usual.setToolTip("The settings that this candidate has by itself")
        self.usual.clicked.connect(self._as_usual)
        self.legend = QLabel("Seam score: 1 is where nothing stands out.")
        self.legend.setProperty("role", "faint")
        self.effect = QLabel()
        self.effect.setProperty("role", "note")
        self.effect.setWordWrap(True)
        rule = QFrame()
        rule.setProperty("role", "rule")
        decide = QHBoxLayout()
        decide.addWidget(buttons["mend"], 3)
        decide.addWidget(buttons["keep"], 2)

        # With the ledger open in a small window, the cards have to scroll: the buttons stay where they are.
        scroll, inner = scrolled()
        inner.setSpacing(8)
        for widget in (self.what, self.detail):
            inner.addWidget(widget)
        self.lay = buttons["lay"]
        inner.addWidget(self.spectrum)
        inner.addWidget(self.lay)
        inner.addLayout(self._card_box)
        for part in (self.settings, self.usual, self.legend, rule, self.effect):
            inner.addWidget(part)
        inner.addStretch()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 12, 12)
        layout.setSpacing(8)
        layout.addWidget(heading)
        layout.addWidget(scroll, 1)
        layout.addLayout(decide)
        alike = QHBoxLayout()
        alike.addWidget(buttons["mend_all"], 3)
        alike.addWidget(buttons["adjust"], 2)
        layout.addLayout(alike)
        layout.addWidget(buttons["put_back"])
        layout.addWidget(buttons["save"])

        for signal in (
            bench.recording_changed,
            bench.focus_changed,
            bench.chosen_changed,
            bench.findings_changed,
            bench.edited,
            bench.learned,
            mending.offers_changed,
            mending.changed,
        ):
            signal.connect(self._refresh)
        self._refresh()

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.theme = theme
        self.spectrum.set_theme(theme)
        for card in self.cards:
            card.theme = theme
            card.update()

    def _refresh(self) -> None:
        work = self._bench.work
        finding = work.focus if work else None
        offers = self._mending.offers
        self.spectrum.setVisible(offers is not None and offers.area is not None)
        if work is None:
            self.what.setText("Nothing is open.")
            self.detail.setText("")
        elif (area := offers.area if offers else None) is not None:
            self.what.setText(f"{emphasised('Area')} at {format_clock(max(0, round(area.area.extent[0])), work.rate)}")
            self.detail.setText(f"{area_told(area.area, work.rate)}. {_AREA_KEYS}")
        elif (place := self._mending.place) is not None:
            self.what.setText(f"{emphasised('Selection')} at {format_clock(place.start, work.rate)}")
            length = format_length(place.stop - place.start, work.rate)
            self.detail.setText(f"{length}; each of these takes it for a gap. Ctrl+D leaves it as it is.")
        elif finding is None:
            self.what.setText(emphasised(work.home.name))
            listing = work.listing()
            if work.survey is None:
                self.detail.setText(
                    "Survey it (F5), then step through the findings with N; what can be done shows here."
                )
            else:
                self.detail.setText(f"{format_count(len(listing.open_rows), 'open finding')}. N goes to the first.")
        else:
            is_on_all = len(finding.channels) == work.channels
            channels = "" if is_on_all else f", {channel_name(finding.channels[0], work.channels)}"
            frames = finding.stop - finding.start
            together = len(work.chosen)
            length = f" · {format_length(frames, work.rate)}" if frames > 1 and together <= 1 else ""
            count = f" × {format_integer(together)}; the worst" if together > 1 else ""
            self.what.setText(
                f"{emphasised(KINDS[finding.kind].title + count)} at {format_clock(finding.start, work.rate)}{channels}"
                f"{length}"
            )
            state = work.state_of(finding)
            text = f"{finding.evidence}; severity {finding.severity:.2f}, confidence {finding.confidence:.2f}."
            if state is not State.OPEN:
                text += f" It is {state.value}."
            elif not is_mendable(finding.kind):
                text += f" {_way_of(finding)}; K keeps it as it is."
            elif offers and offers.is_nothing_left:
                text += " Nothing is left to mend here; K keeps it as it is."
            elif offers and offers.is_better_left:
                text += " Better left as it is: what fills it is rarely nearer to what was said."
            if len(together_open := work.open_chosen()) > 1:
                text += f" Mend and Keep mean all {format_integer(len(together_open))} of them that are open."
            if note := work.history.notes.get(finding.id):
                text += f"\n¶ {note}"
            self.detail.setText(text)
        laid = laid_for(finding) if work is not None and finding is not None else None
        self.lay.setVisible(laid is not None)
        if laid is not None:
            self.lay.setText(f"{laid.words}, over all  Alt+Enter")
        self._show_cards()
        self._show_settings()
        self.legend.setVisible(offers is not None and not offers.is_nothing_left)
        self.effect.setText(self._effect())
        self.effect.setVisible(bool(self.effect.text()))

    def _show_cards(self) -> None:
        offers = self._mending.offers
        candidates = offers.remedies if offers else []
        while len(self.cards) < len(candidates):
            card = CandidateCard(len(self.cards))
            card.theme = self.theme
            card.chosen.connect(self._mending.choose)
            self.cards.append(card)
            self._card_box.addWidget(card)
        for index, card in enumerate(self.cards):
            card.setVisible(index < len(candidates))
            if offers and index < len(candidates):
                candidate = candidates[index]
                title = f"{candidate.title} · set" if candidate.is_adjusted else candidate.title
                card.show_candidate(title, candidate.summary, offers.offers[index], index == offers.chosen)

    def _show_settings(self) -> None:
        """Show the settings of the chosen candidate, if they are wanted."""
        offers = self._mending.offers
        remedy = offers.chosen_remedy if offers and self._mending.shows_settings else None
        self.settings.setVisible(remedy is not None)
        self.usual.setVisible(remedy is not None)
        if remedy is not None:
            self.usual.setEnabled(remedy.is_adjusted)
            self.settings.show_settings(remedy.method.parameters, remedy.method.checked(remedy.settings))

    def _typed(self, name: str, text: str) -> None:
        offers = self._mending.offers
        remedy = offers.chosen_remedy if offers else None
        if remedy is None:
            return
        try:
            settings = remedy.method.checked({**remedy.settings, name: text})
        except ParameterError as error:
            self._bench.failed.emit(str(error))
            self.settings.refuse(name)
            return
        if settings != remedy.method.checked(remedy.settings):
            self._mending.adjust(settings)

    def _as_usual(self) -> None:
        offers = self._mending.offers
        if offers and (remedy := offers.chosen_remedy):
            self._mending.adjust(remedy.method.checked(remedy.usual_settings))

    def _effect(self) -> str:
        """Return what the chosen mend does to time and level, or what has been done to the level already."""
        work = self._bench.work
        if work is None:
            return ""
        offer = self._mending.offers.current if self._mending.offers else None
        peak = max(work.peak, offer.peak) if offer else work.peak
        parts = []
        if offer:
            shift = offer.shift
            longer = "longer" if shift > 0 else "shorter"
            parts.append(f"Time: {format_length(abs(shift), work.rate)} {longer}." if shift else "Time: unchanged.")
            if open_bands := [band for band in offer.trust if band.is_open(work.rate)]:
                longest = max(len(band.deviation) for band in open_bands)
                parts.append(
                    f"{format_length(longest, work.rate)} without information: the sound around does not tell what was "
                    "there; like sound from elsewhere may sound better."
                )
        level_db = amplitude_to_db(peak)
        if level_db > 0 and (offer or work.history.latest):
            change = format_lowering(fitting_gain_db(peak))
            reach = "would reach" if offer and offer.peak >= work.peak else "reach"
            parts.append(
                f"Level: peaks {reach} {format_db(level_db)}. Saving offers to lower all by {change}, or a float file."
            )
        elif offer and offer.peak > 0:
            level = format_db(amplitude_to_db(offer.peak))
            parts.append(f"Level: {offer.nature.value} up to {level}, under full scale.")
        return " ".join(parts)
