"""A monkey at the bench: all commands in random order, by fixed seeds; nothing may break, and nothing be lost.

Each round is a window of its own with two short recordings. At its end playing must still play, and the casebook,
opened again, must hold just what was shown.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
import time
import traceback
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer, QtMsgType, qInstallMessageHandler
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication

from umbrick.casebook.casebook import Casebook
from umbrick.core.paths import HOME_VARIABLE
from umbrick.playback.simulated import SimulatedOutput
from umbrick.ui.collecting import Collecting
from umbrick.ui.starting import started_application
from umbrick.ui.window import BenchWindow
from umbrick.work.loading import Loaded, load_shelf

MINUTES = 10
_ROUND_SECONDS = 20.0
_LEFT_OUT = {"quit", "demo", "close"}
"""What ends the round, and what opens more than a round can hold."""

_HARMLESS = ("This plugin does not support",)


class Monkey:
    """One round at one window."""

    def __init__(self, seed: int, folder: Path) -> None:
        self._random = random.Random(seed)
        self._done: list[str] = []
        self.complaints: list[str] = []
        self.window = BenchWindow(SimulatedOutput())
        self.window.resize(1180, 760)
        self.window.show()
        self.window.bench.jobs.fault.connect(lambda told, details: self.complaints.append(details))
        noise = np.random.default_rng(seed)
        self._files = []
        for name, channels in (("one", 1), ("two", 2)):
            sound = 0.7 * np.sin(np.arange(24_000) * 0.06)[:, np.newaxis] * np.linspace(0.2, 1.2, channels)
            sound = np.clip(sound + 0.002 * noise.standard_normal((24_000, channels)), -0.6, 0.6)
            sound[9000:9400] = 0.0
            sound[15_000] = 0.9
            self._files.append(folder / f"{name}.wav")
            soundfile.write(self._files[-1], sound, 16_000, subtype="PCM_24")

    def play(self, seconds: float) -> list[str]:
        """Do random things for so long; return what went wrong."""
        window = self.window
        closer = QTimer(window, interval=15)
        closer.timeout.connect(_shut_dialogs)
        closer.start()
        before, warned = sys.excepthook, qInstallMessageHandler(self._heard)
        sys.excepthook = lambda *fault: self.complaints.append("".join(traceback.format_exception(*fault)))
        try:
            window.open(self._files)
            self._wait_until(lambda: len(window.bench.works) == 2, "opening")
            until = time.monotonic() + seconds
            while time.monotonic() < until and not self.complaints:
                self._step()
            self._check_playing()
            self._check_kept()
        finally:
            closer.stop()
            window.shut_down()
            window.deleteLater()
            QApplication.processEvents()
            sys.excepthook = before
            qInstallMessageHandler(warned)
        return [f"{complaint}\nafter: {', '.join(self._done[-12:])}" for complaint in self.complaints]

    def _step(self) -> None:
        window, dice = self.window, self._random
        if dice.random() < 0.2:
            strip = dice.choice([strip for strip in window.strips if strip.isVisible()] or [window])
            start, stop = (QPoint(dice.randrange(1, strip.width()), dice.randrange(1, strip.height())) for _ in "ab")
            button = dice.choice([Qt.MouseButton.LeftButton, Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton])
            self._done.append(f"drag in {type(strip).__name__}")
            none = Qt.MouseButton.NoButton
            for kind, at, pressed, held in (
                (QEvent.Type.MouseButtonPress, start, button, button),
                (QEvent.Type.MouseMove, stop, none, button),
                (QEvent.Type.MouseButtonRelease, stop, button, none),
            ):
                place = QPointF(at)
                modifiers = Qt.KeyboardModifier.NoModifier
                event = QMouseEvent(kind, place, strip.mapToGlobal(place), pressed, held, modifiers)
                QApplication.sendEvent(strip, event)
        elif dice.random() < 0.05:
            self._done.append("another recording")
            window.bench.show_work(dice.choice(window.bench.works))
        else:
            names = [name for name, action in window.actions_.actions.items() if action.isEnabled()]
            name = dice.choice([name for name in names if name not in _LEFT_OUT])
            self._done.append(name)
            window.actions_.actions[name].trigger()
        _events(dice.choice([0.0, 0.0, 0.01, 0.05, 0.2]))

    def _check_playing(self) -> None:
        window = self.window
        window.controllers.stop()
        window.tools.leave()
        self._wait_until(window.is_settled, "jobs after stopping")
        window.listening.engine.stop()
        window.listening.end_scrub()
        self._wait_until(lambda: not window.listening.engine.is_playing, "stopping")
        window.bench.set_cursor(0)
        window.listening.set_loops(False)
        window.listening.engine.play(0)
        # Of a recording that was cut to nearly nothing, nearly nothing is played.
        least = min(500, window.bench.work.frames // 2) if window.bench.work else -1
        self._wait_until(lambda: window.listening.engine.position >= least, "playing")
        window.listening.engine.stop()

    def _check_kept(self) -> None:
        window = self.window
        self._wait_until(window.is_settled, "jobs at the end")
        path = window.casebooks.casebook().path
        shown = {str(work.home): _shown(work.history) for work in window.bench.works}
        window.casebooks.write_views()
        for work in window.bench.works:
            work.recording.close()
        window.bench.works.clear()
        window.bench.show_work(None)
        window.casebooks.let_go()
        if not path.exists():
            return  # nothing was done that is worth keeping
        casebook = Casebook.open(path)
        for shelf in casebook.shelves():
            loaded = load_shelf(shelf)
            if isinstance(loaded, Loaded):
                if shown[str(loaded.reference.home)] != _shown(loaded.history):
                    self.complaints.append(f"{loaded.reference.home.name} is not what was shown")
                loaded.recording.close()
        casebook.close()

    def _wait_until(self, is_so: Any, what: str, seconds: float = 60.0) -> None:
        limit = time.monotonic() + seconds
        while not is_so():
            if time.monotonic() > limit:
                self.complaints.append(f"waits for ever: {what}")
                return
            _events(0.005)

    def _heard(self, kind: QtMsgType, _: Any, message: str) -> None:
        if kind != QtMsgType.QtDebugMsg and not message.startswith(_HARMLESS):
            self.complaints.append(f"Qt: {message}")


def _shown(history: Any) -> tuple[Any, ...]:
    entries = [(entry.mend.id, entry.is_on, entry.mend.parameters) for entry in history.ledger]
    return history.current.key, history.now, entries, history.markers, dict(history.notes)


def _events(seconds: float) -> None:
    until = time.monotonic() + seconds
    QApplication.processEvents()
    while time.monotonic() < until:
        QApplication.processEvents()
        time.sleep(0.002)


def _shut_dialogs() -> None:
    for widget in (QApplication.activeModalWidget(), QApplication.activePopupWidget()):
        if widget is not None:
            widget.close()


def run(_: list[Path]) -> None:
    """Print what went wrong in ten minutes of rounds."""
    minutes = float(os.environ.get("UMBRICK_BENCH_MINUTES", MINUTES))
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    Collecting(started_application())
    until, seed = time.monotonic() + 60 * minutes, 0
    broken = 0
    while time.monotonic() < until:
        with tempfile.TemporaryDirectory() as folder:
            os.environ[HOME_VARIABLE] = f"{folder}/home"
            complaints = Monkey(seed, Path(folder)).play(_ROUND_SECONDS)
        for complaint in complaints:
            print(f"seed {seed}: {complaint}", flush=True)
        broken += bool(complaints)
        seed += 1
    print(f"{seed} rounds of {_ROUND_SECONDS:.0f} s: {broken} broke something")
