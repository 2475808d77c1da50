"""Twelve linked recordings of an hour in the window: opening, scrolling, a mend carried to all, memory.

Targets: the first picture within 3 s, 95 % of lane pictures within 16 ms, one mend carried to all lanes within 1 s,
no underrun while all are heard, under 1 GB. ``UMBRICK_BENCH_MINUTES`` sets another length.
"""

from __future__ import annotations

import os
import resource
import tempfile
import time
from pathlib import Path

import numpy as np

from benchmarks import long_recording

_LANES = 12
_MINUTES = int(os.environ.get("UMBRICK_BENCH_MINUTES", "60"))
_SCROLLS, _PLAYED_SECONDS = 100, 30


def run(files: list[Path]) -> None:
    """Measure and print."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from umbrick.core.linking.clock import Clock
    from umbrick.core.mend.applying import apply_method
    from umbrick.core.mend.place import Place
    from umbrick.core.mend.registry import method_named
    from umbrick.core.paths import HOME_VARIABLE
    from umbrick.core.view.window import Window
    from umbrick.playback.simulated import SimulatedOutput
    from umbrick.ui.window import BenchWindow
    from umbrick.work.linked import write_links

    with tempfile.TemporaryDirectory() as folder:
        os.environ[HOME_VARIABLE] = f"{folder}/home"
        paths = [long_recording.write(Path(folder) / f"lane {n}.wav", _MINUTES * 60, channels=1) for n in range(_LANES)]
        application = QApplication.instance() or QApplication(["bench"])
        output = SimulatedOutput()
        window = BenchWindow(output)
        window.resize(1280, 800)
        window.show()

        def wait(until) -> float:
            began = time.monotonic()
            while not until():
                application.processEvents()
                time.sleep(0.002)
            return time.monotonic() - began

        bench = window.bench
        began = time.monotonic()
        window.open(paths)
        wait(lambda: any(work.sketch is not None for work in bench.works))
        first = time.monotonic() - began
        wait(lambda: len(bench.works) == _LANES)
        opened = time.monotonic() - began
        rate = bench.works[0].rate
        write_links(bench.works, [Clock(rate, 100.0 * n) for n in range(_LANES)], 1)
        bench.find_sets()
        wait(window.is_settled)
        settled = time.monotonic() - began
        print(f"first picture after {first:.1f} s, all open after {opened:.1f} s, all drawn after {settled:.0f} s")
        taken = []
        for step in range(_SCROLLS):
            bench.set_passage(Window((10 + step) * rate, (14 + step) * rate))
            request = window.lanes._request()
            began = time.monotonic()
            request.make(lambda: False)
            taken.append(1000 * (time.monotonic() - began))
            application.processEvents()
        wait(window.is_settled)
        print(f"pictures of all lanes: {np.median(taken):.1f} ms, 95 % {np.quantile(taken, 0.95):.1f} ms")
        window.linking.set_hears_all()
        bench.set_cursor(200 * rate)
        before = output.underruns
        window.listening.play()
        began = time.monotonic()
        wait(lambda: time.monotonic() - began > _PLAYED_SECONDS)
        window.listening.stop()
        print(f"all lanes playing for {_PLAYED_SECONDS} s: {output.underruns - before} underruns")
        work = bench.work
        at = 100 * rate
        mended = apply_method(work.version, method_named("bridge"), {}, [Place(at, at + 200, (0,))])
        bench.commit(work, mended.edit("bridge"), mended.version)
        began = time.monotonic()
        window.linking.carry()
        wait(lambda: all(lane.work.history.mend_count for lane in window.linking.linked.lanes))
        print(f"a mend carried to all lanes in {time.monotonic() - began:.2f} s")
        window.shut_down()
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"memory at its highest {peak:.0f} MB")
