"""Remakes the pictures in the documentation from the demo, through the real interface: ``./run shots``."""

from __future__ import annotations

import json
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QWidget

from umbrick.core.measure.pauses import next_pause
from umbrick.core.paths import HOME_VARIABLE
from umbrick.core.regimen.regimen import Regimen
from umbrick.core.view.window import Window
from umbrick.demo import recordings, truth_of
from umbrick.playback.simulated import SimulatedOutput
from umbrick.ui import theme
from umbrick.ui.bench.spectral_view import Face
from umbrick.ui.collecting import Collecting
from umbrick.ui.dialogs.regimen_dialog import RegimenDialog
from umbrick.ui.window import BenchWindow
from umbrick.work.work import Work

_PATIENCE_SECONDS = 120.0
_DROPOUT_SECONDS = 6.056
_REGIMEN = {
    "schema": "umbrick.regimen/1",
    "name": "Pump house calls",
    "steps": [
        {"method": "bridge", "where": "findings:dropout,discontinuity"},
        {"method": "collapse", "where": "findings:stutter", "set": {"time": "payback"}},
        {"method": "dehum"},
        {"method": "denoise", "set": {"reduction_db": 8}},
        {"method": "lull", "where": "pauses", "is_on": False},
    ],
}
_NEUTRAL_FOLDER = Path("/tmp/ostermoor")


class _Photographer:
    def __init__(self, window: BenchWindow, folder: Path) -> None:
        self._window = window
        self._folder = folder

    def wait(self, until: Callable[[], bool]) -> None:
        """Let the interface work until something is so."""
        deadline = time.monotonic() + _PATIENCE_SECONDS
        while not until():
            QApplication.processEvents()
            time.sleep(0.01)
            if time.monotonic() > deadline:
                raise TimeoutError("the window did not settle")

    def settle(self) -> None:
        """Wait until all is done and drawn."""
        self.wait(self._window.is_settled)
        QApplication.processEvents()
        self.wait(self._window.is_settled)

    def shoot(self, name: str, widget: QWidget | None = None) -> None:
        """Save a picture of the window, or of a dialog."""
        self.settle()
        path = self._folder / f"{name}.png"
        if not (widget or self._window).grab().save(str(path)):
            raise OSError(f"{path} cannot be written")
        sys.stderr.write(f"{path}\n")

    def run(self, command: str) -> None:
        """Do what a person would do by key or menu."""
        self._window.actions_.actions[command].trigger()
        self.settle()

    def shoot_dialog(self, command: str, name: str, accept: bool = False) -> None:
        """Open a dialog by its command, picture it, and close it."""

        def look() -> None:
            dialog = QApplication.activeModalWidget()
            if dialog is None or self._window.looking.is_working_out:
                QTimer.singleShot(50, look)
                return
            self.shoot(name, dialog)
            dialog.accept() if accept else dialog.reject()  # type: ignore[attr-defined]

        QTimer.singleShot(200, look)
        self._window.actions_.actions[command].trigger()
        self.settle()


def _show(photographer: _Photographer, window: BenchWindow, name: str) -> Work:
    """Bring a demo recording to the front."""
    work = next(work for work in window.bench.works if work.recording.name == name)
    window.bench.show_work(work)
    photographer.settle()
    return work


def _focus(photographer: _Photographer, window: BenchWindow, kind: str, number: int) -> None:
    """Go to one of the open findings of a kind, with those that belong together with it."""
    work = window.bench.work
    assert work is not None
    window.bench.focus_group(work, work.listing().open_findings(kind)[number])
    photographer.settle()


def _work_with_the_ledger(photographer: _Photographer, window: BenchWindow) -> None:
    """Picture the ledger with a mend switched off."""
    work = window.bench.work
    assert work is not None
    photographer.run("ledger")
    ledger = work.history.ledger
    window.lifting.choose([ledger[len(ledger) // 2].mend.id])
    photographer.run("switch")
    photographer.shoot("ledger")
    photographer.run("ledger")


def _gather_an_area(photographer: _Photographer, window: BenchWindow) -> None:
    """Picture the kettle over a sentence, gathered with its harmonics, and what would be left of it."""
    work = window.bench.work
    assert work is not None
    planted = json.loads(truth_of(work.home).read_text())["planted"]
    kettle = next(fault for fault in planted if fault["kind"] == "intrusion")
    start, stop = kettle["start"], kettle["end"]
    window.bench.set_passage(Window(start - 0.7 * work.rate, stop + 0.7 * work.rate))
    window.viewing.spectral.show_face(Face.BOTH)
    low, high = kettle["band_hz"]
    window.outlining.gather((start + stop) // 2, (low + high) / 2, 0)
    photographer.settle()
    photographer.run("harmonics")
    photographer.shoot("area")
    window.outlining.clear()
    window.viewing.spectral.show_face(Face.WAVE)
    photographer.settle()


def _lay_a_course(photographer: _Photographer, window: BenchWindow) -> None:
    """Picture a course: filters over a voice's spectrum, the harmonics of its hum, and its noise."""
    work = window.bench.work
    assert work is not None
    window.bench.select(0, 0)
    for command in ("lay_low_cut", "lay_peak", "lay_soft"):
        photographer.run(command)
    window.bench.set_passage(Window(8.0 * work.rate, 16.0 * work.rate))
    photographer.settle()
    photographer.shoot("course")
    _undo(photographer, window, 3)
    rate = work.rate
    window.bench.set_passage(Window(0, 6.0 * rate))
    photographer.run("lay_dehum")
    photographer.shoot("hum")
    pause = next_pause(work.outcome, 0)
    if pause is not None:
        window.bench.select(*pause)
        photographer.settle()
        photographer.run("lay_print")
        photographer.wait(lambda: window.treatment.course.noise.spectra is not None)
        photographer.shoot("noise")
        _undo(photographer, window, 1)
    _undo(photographer, window, 1)
    window.bench.select(0, 0)
    window.coursing.set_open(False)
    photographer.settle()


def _undo(photographer: _Photographer, window: BenchWindow, times: int) -> None:
    for _ in range(times):
        window.bench.undo()
    photographer.settle()


def _work_by_hand(photographer: _Photographer, window: BenchWindow) -> None:
    """Picture a hole on the seam desk, and a stroke in the Loupe."""
    work = _show(photographer, window, "concertina-waltz")
    planted = json.loads(truth_of(work.home).read_text())["planted"]
    hole = next(fault for fault in planted if fault["kind"] == "dropout")
    bench, tools = window.bench, window.tools
    bench.look_at(hole["start"], hole["end"], 0)
    bench.select(hole["start"], hole["end"])
    photographer.run("seam_desk")
    photographer.shoot("seam-desk")
    photographer.run("stop")
    bench.select(0, 0)
    wrong = max(fault["start"] for fault in planted if fault.get("samples") == 1)
    bench.set_cursor(wrong)
    photographer.run("come_close")
    photographer.run("pen")
    value = float(work.version.read(wrong - 1, wrong)[0, 0])
    tools.drawing.begin(wrong - 8, value)
    for step in range(17):
        tools.drawing.draw_to(wrong - 8 + step, value * (1 - 0.06 * step))
    photographer.settle()
    photographer.shoot("redraw")
    photographer.run("stop")
    photographer.run("pen")


def _link_the_choir(photographer: _Photographer, window: BenchWindow) -> None:
    """Find which microphone lost its sound for a moment."""
    work = _show(photographer, window, "choir-left")
    photographer.run("link")
    moment = round(_DROPOUT_SECONDS * work.rate)
    window.bench.set_passage(Window(moment - 0.6 * work.rate, moment + 0.8 * work.rate))
    window.bench.set_cursor(moment)
    photographer.run("which_one")
    photographer.shoot("lanes")


def _fill_beside_the_picture(photographer: _Photographer, window: BenchWindow) -> None:
    _show(photographer, window, "gates-opening")
    photographer.run("survey")
    _focus(photographer, window, "dropout", 0)
    photographer.shoot("picture")
    regimen = Regimen.parsed(_REGIMEN)
    dialog = RegimenDialog(regimen, True, window)
    dialog.table.selectRow(1)
    dialog.show()
    photographer.shoot("regimen", dialog)
    dialog.close()


def _in_a_neutral_folder() -> list[Path]:
    """Copy the demo recordings and their truth to where no path tells of the machine the pictures are made on."""
    _NEUTRAL_FOLDER.mkdir(parents=True, exist_ok=True)
    copies = []
    for path in recordings():
        copies.append(Path(shutil.copy(path, _NEUTRAL_FOLDER)))
        shutil.copy(truth_of(path), _NEUTRAL_FOLDER)
    return copies


def take(folder: Path) -> None:
    """Take every picture."""
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as home:
        os.environ[HOME_VARIABLE] = home
        application = QApplication.instance() or QApplication(["umbrick"])
        assert isinstance(application, QApplication)
        Collecting(application)
        theme.load_fonts()
        window = BenchWindow(SimulatedOutput())
        window.resize(1280, 800)
        window.show()
        photographer = _Photographer(window, folder)
        window.open(_in_a_neutral_folder())
        photographer.wait(lambda: len(window.bench.works) == len(recordings()))
        _show(photographer, window, "keeper-interview")
        photographer.run("survey")
        photographer.shoot_dialog("first_look", "first-look")
        _focus(photographer, window, "clipping", 3)
        photographer.shoot("bench")
        photographer.run("dusk")
        photographer.shoot("bench-dusk")
        photographer.run("dusk")
        photographer.shoot_dialog("mend_all", "mend-all", accept=True)
        photographer.shoot_dialog("save", "save")
        photographer.run("review")
        photographer.run("next_part")
        photographer.shoot("level-review")
        photographer.run("review")
        _work_with_the_ledger(photographer, window)
        _gather_an_area(photographer, window)
        _lay_a_course(photographer, window)
        _show(photographer, window, "radio-call")
        photographer.run("survey")
        _focus(photographer, window, "stutter", 2)
        photographer.shoot("held-syllable")
        _show(photographer, window, "concertina-waltz")
        photographer.run("survey")
        _focus(photographer, window, "dropout", 0)
        photographer.shoot("gap")
        photographer.shoot_dialog("rehearse", "rehearsal")
        _work_by_hand(photographer, window)
        _link_the_choir(photographer, window)
        _fill_beside_the_picture(photographer, window)
        window.shut_down()
        shutil.rmtree(_NEUTRAL_FOLDER)


if __name__ == "__main__":
    take(Path(sys.argv[1]))
