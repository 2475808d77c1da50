"""The course over three hours of stereo: what switching, changing, hearing and saving it take.

Targets: switching, moving and undoing a step under 20 ms; a step added is heard within 0.5 s, a setting changed while
it plays within 200 ms (with what the output holds already, which is heard before); no underrun; filter and level to a
24-bit file at 60 times real time in under 500 MB; the casebook grows by less than 100 KB. ``UMBRICK_BENCH_HOURS`` sets
another length.
"""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks import long_recording
from benchmarks.bench_window import settle, showing
from umbrick.core.paths import HOME_VARIABLE
from umbrick.playback.engine import Engine
from umbrick.playback.simulated import SimulatedOutput

_HOURS = float(os.environ.get("UMBRICK_BENCH_HOURS", "3"))
_TURNS = 12


def save_through(path: str) -> None:
    """Lay a low cut and a level over a recording and save it as 24 bit; print how long that took and the memory."""
    from umbrick.core.course.ahead import read_ahead
    from umbrick.core.course.laid import Ground
    from umbrick.core.course.learning import learned, new_step
    from umbrick.core.course.tiles import Tiles
    from umbrick.core.mend.registry import METHODS
    from umbrick.core.quick_transforms import use_quick_transforms
    from umbrick.core.sound.formats import FileFormat
    from umbrick.core.sound.recording import open_recording
    from umbrick.core.sound.saving import save
    from umbrick.core.timeline.version import Version

    use_quick_transforms()
    with tempfile.TemporaryDirectory(dir=Path(path).parent) as folder:
        recording = open_recording(Path(path), Path(folder))
        version = Version.of(recording.source)
        ground = Ground(version, version, Tiles())
        on = tuple(range(version.channels))
        cut = new_step(METHODS["filter"], {}, on, None, ())
        began = time.perf_counter()
        level = learned(ground, (cut,), new_step(METHODS["normalize"], {}, on, None, (cut,)))
        measured = time.perf_counter()
        with read_ahead(ground.through((cut, level))) as sound:
            form = FileFormat("WAV", "PCM_24")
            save(sound, Path(folder) / "out.wav", form, origin_format=recording.format)
        done = time.perf_counter()
        seconds = version.frames / version.rate
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
        print(
            f"measured for the level at {seconds / (measured - began):.0f} times real time, filtered, levelled and "
            f"saved at {seconds / (done - measured):.0f}; {memory} MB"
        )
        recording.close()


def run(files: list[Path]) -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ[HOME_VARIABLE] = folder  # for the process that saves, too
        path = long_recording.write(Path(folder) / "hours.wav", round(3600 * _HOURS))
        code = f"from benchmarks.course import save_through; save_through({str(path)!r})"
        print(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.strip())
        output = _Watched()
        with showing(path, output) as (window, application):
            output.engine = window.listening.engine
            _in_the_window(window, application, output)


class _Watched(SimulatedOutput):
    """Notes when what it takes is heard, and of which programme it is."""

    def __init__(self) -> None:
        super().__init__()
        self.engine: Engine | None = None
        self.heard: list[tuple[float, object]] = []

    def write(self, block) -> None:
        if self.engine and (programme := self.engine.sounding):
            self.heard.append((time.monotonic() + self.latency_frames() / self._rate, programme.after))
        super().write(block)


def _in_the_window(window, application, output: _Watched) -> None:
    coursing, engine, work = window.coursing, window.listening.engine, window.bench.work
    book = work.shelf.store.path

    def size() -> int:
        work.shelf.store.rows("PRAGMA wal_checkpoint(TRUNCATE)")
        return book.stat().st_size

    def until_heard(change) -> float:
        """Return how long it takes from a change until it is heard."""
        output.heard.clear()
        began = time.monotonic()
        change()
        wanted = coursing.through(work, work.version)
        while True:
            for at, version in list(output.heard):
                if version is wanted:
                    return at - began
            application.processEvents()
            time.sleep(0.001)
            if time.monotonic() - began > 30:
                raise TimeoutError

    before = size()
    window.listening.play_from(work.frames // 2)
    underruns = engine.underruns
    added = until_heard(lambda: window.actions_.actions["lay_low_cut"].trigger())
    window.actions_.actions["lay_soft"].trigger()
    names = [step.id for step in work.history.course]

    def took(do) -> float:
        began = time.perf_counter()
        do()
        return 1000 * (time.perf_counter() - began)

    changes = [
        1000 * until_heard(lambda turn=turn: coursing.try_settings(names[1], {"gain_db": -6.0 - turn}))
        for turn in range(_TURNS)
    ]
    coursing.keep_tried()
    switched, moved, undone = [], [], []
    for _ in range(_TURNS):
        for times, do in (
            (switched, lambda: coursing.switch(names[0])),
            (moved, lambda: coursing.move(names[0], 1)),
            (undone, window.bench.undo),
            (undone, window.bench.undo),
        ):
            times.append(took(do))
            for _ in range(20):
                application.processEvents()
                time.sleep(0.005)
    grown = size() - before
    print(
        f"a step added to {_HOURS:g} h, heard after {added:.2f} s; a setting changed while it plays: median "
        f"{statistics.median(changes):.0f} ms, at most {max(changes):.0f}; underruns "
        f"{engine.underruns - underruns}"
    )
    for what, times in (("switching", switched), ("moving", moved), ("undoing", undone)):
        print(f"{what} a step: median {statistics.median(times):.1f} ms, at most {max(times):.1f}")
    print(f"the casebook grew by {grown / 1000:.0f} kB over {work.history.now} edits and their undoing")
    window.listening.stop()
    began = time.perf_counter()
    settle(window, application)
    print(f"all tiles worked out {time.perf_counter() - began:.0f} s later")
