"""Ten minutes of playing while a long recording is surveyed on the other core: no underrun.

Target: none. The simulated output holds 12,288 frames here, as a device of high latency does (in the window 4,096, so
that a change is heard at once), and counts how often there was nothing left to play. A bystander, a process that does
nothing but sleep for 2 ms again and again, tells when and for how long the machine itself stood still: underruns at
such times are told apart from the program's own. ``UMBRICK_BENCH_MINUTES`` and ``UMBRICK_BENCH_BUFFER`` set another
length and another buffer.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from benchmarks import long_recording
from umbrick.core.sound.recording import open_recording
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version
from umbrick.playback.engine import Engine
from umbrick.playback.programme import Programme
from umbrick.playback.simulated import SimulatedOutput

_BYSTANDER = """
import sys, time
last = time.monotonic()
while True:
    time.sleep(0.002)
    now = time.monotonic()
    if now - last > 0.05:
        print(f"{last:.3f} {now:.3f}", flush=True)
    last = now
"""
_NEAR_SECONDS = 1.0
_BUFFER_FRAMES = int(os.environ.get("UMBRICK_BENCH_BUFFER", "12288"))
_MINUTES = float(os.environ.get("UMBRICK_BENCH_MINUTES", "10"))


class _Watched(SimulatedOutput):
    """Notes when it had run dry."""

    def __init__(self) -> None:
        super().__init__(buffer_frames=_BUFFER_FRAMES)
        self.dry: list[float] = []

    def write(self, block) -> None:
        count = self.underruns
        super().write(block)
        if self.underruns > count:
            self.dry.append(time.monotonic())


def run(files: list[Path]) -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as folder:
        recording = open_recording(long_recording.write(Path(folder) / "hour.wav", 3600), Path(folder))
        version = Version.of(recording.source)
        output = _Watched()
        engine = Engine(output)
        engine.load(Programme(version, version))
        stop = threading.Event()
        surveys = [0]

        def survey():
            while not stop.is_set():
                Surveyor(version, recording.format.bits, list(KINDS.values())).run(
                    is_cancelled=stop.is_set, leaves_a_core=lambda: engine.is_playing
                )
                surveys[0] += 1

        def quietly():
            try:
                survey()
            except Exception:
                if not stop.is_set():
                    raise

        worker = threading.Thread(target=quietly, daemon=True)
        worker.start()
        bystander = subprocess.Popen([sys.executable, "-c", _BYSTANDER], stdout=subprocess.PIPE, text=True)
        engine.play(0)
        began = time.monotonic()
        time.sleep(60 * _MINUTES)
        played = engine.position / recording.source.rate
        dry = list(output.dry)
        engine.stop()
        bystander.terminate()
        stalls = [tuple(map(float, line.split())) for line in (bystander.communicate()[0] or "").splitlines()]
        stop.set()
        worker.join()
        engine.close()
        recording.close()
        print(
            f"{(time.monotonic() - began) / 60:.1f} min of playing ({played:.0f} s heard) beside "
            f"{surveys[0]} whole surveys of an hour: {len(dry)} underruns; the machine stood still "
            f"{len(stalls)} times, {1e3 * max((end - since for since, end in stalls), default=0):.0f} ms at most"
        )
        for at in dry:
            stood = sum(end - since for since, end in stalls if since < at + 0.1 and end > at - _NEAR_SECONDS)
            print(f"  underrun at {at - began:.1f} s: the machine stood still for {1e3 * stood:.0f} ms just before")
