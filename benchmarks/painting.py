"""Scrolling and zooming the three strips over an hour, at 1280×800 with software drawing.

Target: 95 % of repaints within 16 ms. A repaint is what blocks the window; the picture for a new place is made beside
it and told as *fresh*.
"""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

import numpy as np

from benchmarks import long_recording

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


def run(files: list[Path]) -> None:
    """Measure and print."""
    from PySide6.QtWidgets import QApplication

    from umbrick.core.paths import HOME_VARIABLE
    from umbrick.playback.simulated import SimulatedOutput
    from umbrick.ui import theme
    from umbrick.ui.window import BenchWindow

    with tempfile.TemporaryDirectory() as folder:
        os.environ[HOME_VARIABLE] = folder
        path = long_recording.write(Path(folder) / "hour.wav", 3600)
        application = QApplication.instance() or QApplication([])
        theme.load_fonts()
        window = BenchWindow(SimulatedOutput())
        window.resize(1280, 800)
        window.show()
        window.open([path])
        while not (window.bench.works and window.is_settled()):
            application.processEvents()
            time.sleep(0.002)
        for name, move in _moves(window).items():
            paints, fresh = [], []
            for step in range(60):
                move(step)
                began = time.perf_counter()
                window.strips[0].repaint()  # flushes the others too, which are due as well
                paints.append(1e3 * (time.perf_counter() - began))
                while not window.is_settled():
                    application.processEvents()
                    time.sleep(0.0005)  # an idle window lets the pictures be made
                fresh.append(1e3 * (time.perf_counter() - began))
            print(
                f"{name:16} repaint ms: median {np.median(paints):.1f}, 95 % {np.percentile(paints, 95):.1f}; "
                f"fresh: median {np.median(fresh):.1f}, 95 % {np.percentile(fresh, 95):.1f}"
            )
        window.shut_down()


def _moves(window):
    bench = window.bench
    work = bench.work

    def scroll(step):
        bench.set_passage(work.passage.scrolled(0.1 * work.passage.length, work.frames))
        bench.set_loupe(work.loupe.scrolled(0.1 * work.loupe.length, work.frames))

    def zoom_out(step):
        bench.zoom_passage(1.15, work.passage.start)
        bench.zoom_loupe(1.05, work.loupe.start)

    def zoom_in(step):
        bench.zoom_passage(1 / 1.15, work.passage.start)
        bench.zoom_loupe(1 / 1.05, work.loupe.start)

    return {"scroll": scroll, "zoom out": zoom_out, "scroll far out": scroll, "zoom in": zoom_in}
