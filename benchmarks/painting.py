"""Scrolling and zooming the three strips over an hour, at 1280×800 with software drawing.

Target: 95 % of repaints within 16 ms. A repaint is what blocks the window; the picture for a new place is made beside
it and told as *fresh*.
"""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np

from benchmarks.bench_window import opened, settle
from umbrick.core.areas.area import Area
from umbrick.core.areas.shapes import Box
from umbrick.core.view.spectrogram import Sharpening
from umbrick.core.view.window import Window
from umbrick.ui.bench.spectral_view import Face

_WIDE_SECONDS = 30


def run(files: list[Path]) -> None:
    """Measure and print."""
    with opened() as (window, application):
        _print_moves(window, application, "")
        work, view = window.bench.work, window.viewing.spectral
        view.show_face(Face.SPECTRUM)
        start = work.frames / 3
        window.bench.set_passage(Window(start, start + _WIDE_SECONDS * work.rate))
        window.bench.select_area(Area.of(Box(start, start + 9 * work.rate, 800, 2500)))
        for sharpening in (Sharpening.NONE, Sharpening.SEVERAL):
            view.sharpening = sharpening
            view.changed.emit()
            settle(window, application)
            _print_moves(window, application, f"spectrogram, {sharpening.value}: ")
        began = time.perf_counter()
        view.toggle_whole()
        window.strips[0].repaint()
        settle(window, application)
        held = window.passage.spectrum.tiles.held_bytes / 1e6
        print(f"spectrogram of the hour in {time.perf_counter() - began:.2f} s; the Passage's tiles hold {held:.0f} MB")


def _print_moves(window, application, title):
    for name, move in _moves(window).items():
        paints, fresh = [], []
        for step in range(60):
            move(step)
            began = time.perf_counter()
            window.strips[0].repaint()  # flushes the others too, which are due as well
            paints.append(1e3 * (time.perf_counter() - began))
            settle(window, application)
            fresh.append(1e3 * (time.perf_counter() - began))
        print(
            f"{title}{name:16} repaint ms: median {np.median(paints):.1f}, 95 % {np.percentile(paints, 95):.1f}; "
            f"fresh: median {np.median(fresh):.1f}, 95 % {np.percentile(fresh, 95):.1f}"
        )


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
