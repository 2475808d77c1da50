"""A casebook of 10,000 mends made one by one on 3 hours: opening it, a new mend, undo, redo, switching; memory.

Targets: opening under 1.5 s; a new mend's commit under 50 ms; undo, redo and switching under 20 ms; memory under
600 MB.
The window's figures include all that it refreshes at once, with the ledger open.
"""

from __future__ import annotations

import os
import resource
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from benchmarks import long_recording
from umbrick.casebook.casebook import Casebook
from umbrick.core.paths import HOME_VARIABLE
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.timeline import change as changes
from umbrick.core.timeline.history import Edit, Mend
from umbrick.core.timeline.lifting import lift_off, switch_off, switch_on
from umbrick.core.timeline.patch import Patch
from umbrick.core.timeline.version import Version

_HOURS = 3
_MENDS = 10_000
_TIMES = 40


def run(files: list[Path]) -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ[HOME_VARIABLE] = f"{folder}/home"
        recording = open_recording(long_recording.write(Path(folder) / "hours.wav", _HOURS * 3600), Path(folder))
        path = Path(folder) / "work.casebook"
        _fill(path, recording)
        _measure_core(path, recording)
        recording.close()
        _measure_window(path)
    print(f"peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


def _edit(version: Version, start: int, number: int) -> Edit:
    patch = Patch(np.random.default_rng(number).standard_normal((30, version.channels)) / 9, version.rate)
    change = changes.replace(version, start, start + 30, patch)
    mend = Mend("declip", start, start + 30, (0,), {"rail_dbfs": "auto", "using": "auto"})
    return Edit("declip at one place", (change,), (mend,), ((0, 1),))


def _fill(path: Path, recording: Recording) -> None:
    casebook = Casebook.create(path)
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    random = np.random.default_rng(0)
    spent = []
    for number in range(_MENDS):
        start = int(random.integers(0, recording.source.frames - 100))
        began = time.perf_counter()
        shelf.commit(history, _edit(history.current, start, number))
        spent.append(time.perf_counter() - began)
    _tell(f"commit, the last 500 of {_MENDS}", spent[-500:])
    casebook.close()
    print(f"file {path.stat().st_size / 1e6:.1f} MB")


def _measure_core(path: Path, recording: Recording) -> None:
    began = time.perf_counter()
    casebook = Casebook.open(path)
    (shelf,) = casebook.shelves()
    history = shelf.history(recording.source).history
    print(f"opening {time.perf_counter() - began:.2f} s")
    names = [entry.mend.id for entry in history.ledger[100 : 100 + _TIMES]]
    _time("undo", lambda: shelf.undo(history))
    _time("redo", lambda: shelf.redo(history))
    _time(
        "switch off", lambda: shelf.commit(history, switch_off(history, [names[0]])), after=lambda: shelf.undo(history)
    )
    shelf.commit(history, switch_off(history, [names[0]]))
    _time("switch on", lambda: shelf.commit(history, switch_on(history, [names[0]])), after=lambda: shelf.undo(history))
    _time("lift off", lambda: shelf.commit(history, lift_off(history, [names[1]])), after=lambda: shelf.undo(history))
    casebook.close()


def _measure_window(path: Path) -> None:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from umbrick.playback.simulated import SimulatedOutput
    from umbrick.ui.window import BenchWindow

    application = QApplication.instance() or QApplication(["umbrick"])
    window = BenchWindow(SimulatedOutput())
    window.resize(1280, 800)
    window.show()

    def wait(until: Callable[[], bool]) -> None:
        while not until():
            application.processEvents()
            time.sleep(0.001)

    began = time.perf_counter()
    window.open([path])
    wait(lambda: bool(window.bench.works))
    print(f"window: opening {time.perf_counter() - began:.2f} s")
    wait(window.is_settled)
    window.toggle_ledger()
    application.processEvents()
    work = window.bench.work
    assert work is not None

    def step(act: Callable[[], object]) -> Callable[[], None]:
        def run() -> None:
            act()
            for strip in window.strips:
                strip.repaint()

        return run

    _time("window: undo", step(window.bench.undo), after=lambda: wait(window.is_settled))
    _time("window: redo", step(window.bench.redo), after=lambda: wait(window.is_settled))
    window.lifting.choose([work.history.ledger[200].mend.id])
    wait(window.is_settled)
    _time("window: switch", step(window.lifting.switch), after=lambda: wait(window.is_settled))
    random = np.random.default_rng(5)

    def mend() -> None:
        start = int(random.integers(0, work.frames - 100))
        window.bench.commit(work, _edit(work.version, start, start))

    _time("window: a new mend", step(mend), after=lambda: wait(window.is_settled))
    window.shut_down()


def _time(name: str, act: Callable[[], object], after: Callable[[], object] = lambda: None) -> None:
    spent = []
    for _ in range(_TIMES):
        began = time.perf_counter()
        act()
        spent.append(time.perf_counter() - began)
        after()
    _tell(name, spent)


def _tell(name: str, spent: list[float]) -> None:
    times = 1e3 * np.array(spent)
    middle, most = np.quantile(times, [0.5, 0.9])
    print(f"{name}: median {middle:.1f} ms, 90 % under {most:.1f} ms, most {times.max():.1f} ms")
