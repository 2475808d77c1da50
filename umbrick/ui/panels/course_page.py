"""The course: what is laid over the recording, step by step, changed in place while it plays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPoint, QTimer, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QPushButton, QVBoxLayout, QWidget

from umbrick.core.course.acting import method_of, treatment_of
from umbrick.core.course.learning import sound_after, sound_before
from umbrick.core.course.step import AMOUNT, STRENGTH, Step
from umbrick.core.course.treatments.dehum import parsed_numbers, taken_harmonics
from umbrick.core.course.treatments.filter import points_of, settings_of
from umbrick.core.errors import ParameterError
from umbrick.core.filters.shapes import CUTS, LEVELLING, Point
from umbrick.core.measure.spectrum import average_spectrum_db
from umbrick.core.mend.parameters import Parameter
from umbrick.core.spectral.noise_print import print_spectrum_db
from umbrick.core.spectral.room import Decay, decay_of, falls_of
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock, format_length
from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.coursing import Coursing
from umbrick.ui.bench.jobs import Job
from umbrick.ui.panels.decay_picture import DecayPicture, Decays
from umbrick.ui.panels.harmonics_picture import HarmonicsPicture
from umbrick.ui.panels.noise_picture import NoiseSpectra
from umbrick.ui.panels.response_curve import ResponseCurve
from umbrick.ui.panels.scrolled import scrolled
from umbrick.ui.panels.setting_fields import SettingFields
from umbrick.ui.panels.step_row import StepRow
from umbrick.ui.panels.weighting_picture import WeightingPicture
from umbrick.ui.soon import Soon
from umbrick.work.work import Work

_SPECTRUM_AFTER_MS = 120
_SPECTRUM_SECONDS = 12.0
_SPECTRA_SHOWN = "denoise", "dereverb", "deess"
_PICTURED = "filter", *_SPECTRA_SHOWN
_DRAWN = AMOUNT, STRENGTH
"""Settings that are shown otherwise."""

_POINT_SETTINGS = ("shape", "frequency_hz", "gain_db", "q", "slope_db")


class CoursePage(QWidget):
    """Follows the course of the current recording."""

    left = Signal()
    """The person has done with typing: the keyboard is free."""

    def __init__(
        self, bench: Bench, coursing: Coursing, buttons: dict[str, QPushButton], adding: Sequence[QAction]
    ) -> None:
        super().__init__()
        self._bench = bench
        self._coursing = coursing
        self._adding = adding
        self._measuring: Job | None = None
        self._spectrum_of: object = None
        self.theme = themes.DAYLIGHT
        self.setAccessibleName("Course")
        heading = QLabel("Course")
        heading.setProperty("role", "heading")
        self.add = QPushButton("Add a step…")
        self.add.setAutoDefault(False)
        self.add.clicked.connect(self._show_adding)
        head = QHBoxLayout()
        head.addWidget(heading)
        head.addStretch()
        head.addWidget(self.add)
        self.what = QLabel()
        self.what.setProperty("role", "faint")
        self.what.setWordWrap(True)
        self.rows: list[StepRow] = []
        self._made: list[StepRow] = []
        self._rows_box = QVBoxLayout()
        self._rows_box.setSpacing(6)
        self.details = QWidget()
        details = QVBoxLayout(self.details)
        details.setContentsMargins(8, 0, 6, 6)
        details.setSpacing(6)
        self.curve = ResponseCurve()
        self.curve.tried.connect(self._try_points)
        self.curve.changed.connect(self._set_points)
        self.curve.chosen_changed.connect(self._refresh)
        self.settings = SettingFields()
        self.settings.typed.connect(self._typed)
        self.settings.left.connect(self.left)
        self.again = QPushButton("Measure again")
        self.again.clicked.connect(lambda: self._coursing.learn_again(self._coursing.chosen))
        self.noise = WeightingPicture()
        self.noise.tried.connect(self._try_weighting)
        self.noise.changed.connect(self._set_weighting)
        details.addWidget(self.curve)
        details.addWidget(self.noise)
        self.harmonics = HarmonicsPicture()
        self.harmonics.toggled.connect(self._spare)
        details.addWidget(self.harmonics)
        self.decays = DecayPicture()
        details.addWidget(self.decays)
        details.addWidget(self.settings)
        details.addWidget(self.again)
        scroll, inner = scrolled()
        inner.setSpacing(8)
        inner.addLayout(self._rows_box)
        self._rows_box.addWidget(self.details)
        inner.addStretch()
        foot = QHBoxLayout()
        foot.addWidget(buttons["carry"], 3)
        foot.addWidget(buttons["back"], 2)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 12, 12)
        layout.setSpacing(8)
        layout.addLayout(head)
        layout.addWidget(self.what)
        layout.addWidget(scroll, 1)
        layout.addLayout(foot)
        self._spectrum_timer = QTimer(self, singleShot=True, interval=_SPECTRUM_AFTER_MS)
        self._spectrum_timer.timeout.connect(self._measure_spectrum)
        soon = Soon(self, self._refresh)
        for signal in (bench.recording_changed, bench.place_changed, coursing.changed):
            signal.connect(soon.ask)
        self._refresh()

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.theme = theme
        self.curve.set_theme(theme)
        self.noise.set_theme(theme)
        self.harmonics.set_theme(theme)
        self.decays.set_theme(theme)

    def _show_adding(self) -> None:
        menu = QMenu(self)
        menu.setToolTipsVisible(True)
        for action in self._adding:
            menu.addAction(action)
        menu.popup(self.add.mapToGlobal(QPoint(0, self.add.height())))

    def _refresh(self) -> None:
        work, steps = self._bench.work, self._coursing.steps
        self.add.setEnabled(not self._coursing.reason_against())
        self.what.setText(_said(work, len(steps)))
        while len(self._made) < len(steps):
            row = StepRow(self._coursing)
            row.left.connect(self.left)
            self._rows_box.addWidget(row)
            self._made.append(row)
        # Rows are taken again for other steps: to make them anew would take longer than all else.
        self.rows = self._made[: len(steps)]
        for row in self._made[len(steps) :]:
            row.hide()
        if work is not None:
            for number, (row, step) in enumerate(zip(self.rows, steps, strict=True), 1):
                row.show_step(step, number, work.rate, work.channels, step.id == self._coursing.chosen)
                row.show()
        self._show_details(work, self._coursing.step)

    def _show_details(self, work: Work | None, step: Step | None) -> None:
        row = next((row for row in self.rows if step is not None and row.name == step.id), None)
        self.details.setVisible(step is not None and row is not None)
        if work is None or step is None or row is None:
            return
        below = self._rows_box.indexOf(row) + 1
        if self._rows_box.indexOf(self.details) != below:
            self._rows_box.removeWidget(self.details)
            self._rows_box.insertWidget(self._rows_box.indexOf(row) + 1, self.details)
        method = method_of(step)
        is_filter = step.method == "filter"
        self.curve.setVisible(is_filter)
        self.noise.setVisible(step.method in _SPECTRA_SHOWN)
        self.noise.show_weighting(step.settings.get("weighting"))
        self.harmonics.setVisible(step.method == "dehum")
        self.decays.setVisible(step.method == "dereverb")
        if step.method == "dehum":
            taken = frozenset(taken_harmonics(step.settings, step.profile, work.rate))
            self.harmonics.show_hum(float(np.median(step.profile["hz"])), step.profile["levels_db"], taken)
        settings = dict(step.settings)
        parameters = method.parameters
        if is_filter:
            points = points_of(step.settings)
            self.curve.show_points(points, work.rate)
            chosen = points[self.curve.chosen]
            settings |= settings_of((chosen,))
            parameters = tuple(p for p in method.parameters if _matters(p, chosen))
        if step.method in _PICTURED:
            self._spectrum_timer.start()
        self.settings.show_settings(tuple(p for p in parameters if p.name not in _DRAWN), settings)
        self.again.setVisible(treatment_of(step).measures)

    # What is done with the chosen step.

    def _try_points(self, points: tuple[Point, ...]) -> None:
        self._coursing.try_settings(self._coursing.chosen, settings_of(points))

    def _set_points(self, points: tuple[Point, ...]) -> None:
        self._coursing.set_settings(self._coursing.chosen, settings_of(points))

    def _try_weighting(self, text: str) -> None:
        self._coursing.try_settings(self._coursing.chosen, {"weighting": text})

    def _set_weighting(self, text: str) -> None:
        self._coursing.set_settings(self._coursing.chosen, {"weighting": text})

    def _spare(self, number: int) -> None:
        """Leave a harmonic of the hum as it is, or take it again."""
        step = self._coursing.step
        if step is not None:
            spared = parsed_numbers(str(step.settings["spared"])) ^ {number}
            self._coursing.set_settings(step.id, {"spared": " ".join(map(str, sorted(spared)))})

    def _typed(self, name: str, text: str) -> None:
        step = self._coursing.step
        if step is None:
            return
        try:
            parameter = next(p for p in method_of(step).parameters if p.name == name)
            value = parameter.parsed(text)
            changed = {name: value}
            if step.method == "filter" and name in _POINT_SETTINGS:
                points = list(points_of(step.settings))
                own = settings_of((points[self.curve.chosen],)) | {name: value, "also": ""}
                points[self.curve.chosen] = points_of(step.settings | own)[0]
                changed = settings_of(tuple(points))
            self._coursing.set_settings(step.id, changed)
        except ParameterError as error:
            self._coursing.refuse(str(error))
            self.settings.refuse(name)

    def _measure_spectrum(self) -> None:
        """Measure the sound that comes to the filter, where it acts, or the selection in it, or around the cursor."""
        work, step = self._bench.work, self._coursing.step
        if work is None or step is None or step.method not in _PICTURED or not self.isVisible():
            return
        start, stop = _heard_span(work, step)
        sound = sound_before(work.ground, self._coursing.steps, step)
        wanted = (sound.key, start, stop, replace(step, settings={}) if step.method == "filter" else step)
        if wanted == self._spectrum_of:
            return
        self._spectrum_of = wanted
        if self._measuring is not None:
            self._measuring.cancel()

        def show(shown: npt.NDArray[np.float64] | tuple[NoiseSpectra, Decays | None]) -> None:
            self._measuring = None
            if isinstance(shown, tuple):
                self.noise.show_spectra(shown[0], work.rate)
                self.decays.show_decays(shown[1])
            else:
                self.curve.show_spectrum(shown)

        ground, steps = work.ground, self._coursing.steps

        def measure(_: Job) -> npt.NDArray[np.float64] | tuple[NoiseSpectra, Decays | None]:
            before = average_spectrum_db(sound, start, stop, list(step.channels))
            if step.method == "filter":
                return before
            treated = sound_after(ground, steps, step)
            spectra = NoiseSpectra(before, average_spectrum_db(treated, start, stop, list(step.channels)))
            if step.method == "denoise":
                levels = step.profile["levels_db"]
                noise = np.max([print_spectrum_db(row, work.rate, len(before)) for row in levels], axis=0)
                spectra = replace(spectra, noise=noise)
            if step.method != "dereverb":
                return spectra, None
            return spectra, Decays(*(_decay_in(one, start, stop, step) for one in (sound, treated)))

        self._measuring = self._bench.jobs.start("measuring a spectrum", measure, show)


def _decay_in(sound: Version, start: int, stop: int, step: Step) -> Decay | None:
    falls = falls_of(sound, [(start, stop)], step.channels)
    return falls and decay_of(falls, sound.rate)


def _matters(parameter: Parameter, point: Point) -> bool:
    """Return whether a setting means something for a filter of this shape."""
    if parameter.name == "gain_db":
        return point.shape in LEVELLING
    if parameter.name == "slope_db":
        return point.shape in CUTS
    return parameter.name != "also"


def _said(work: Work | None, count: int) -> str:
    if work is None:
        return ""
    place = "all of it"
    if work.selection is not None:
        start, stop = work.selection.span
        place = f"the selection, {format_clock(start, work.rate)}, {format_length(stop - start, work.rate)}"
    if count:
        return f"Sound goes through these in order. A new step lies over {place}."
    return f"Nothing is laid over this recording yet. A step lies over {place}, and can be changed at any time."


def _heard_span(work: Work, step: Step) -> tuple[int, int]:
    if work.selection is not None:
        return work.selection.span
    reach = round(_SPECTRUM_SECONDS * work.rate / 2)
    spans = work.ground.placed(step)
    if step.spans is not None and spans:
        return spans[0][0], min(spans[0][1], spans[0][0] + 2 * reach)
    return max(0, work.cursor - reach), min(work.frames, work.cursor + reach)
