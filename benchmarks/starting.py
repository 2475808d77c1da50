"""How long starting takes: processor time of the command line, and until the window is first painted."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from umbrick.core.paths import HOME_VARIABLE

_ROUNDS = 5
_WINDOW = """
import time, os
began = float(os.environ["UMBRICK_BENCH_BEGAN"])
from umbrick.ui.starting import Starting, started_application
application = started_application()
starting = Starting()
starting.painted.connect(lambda: (print(time.time() - began), os._exit(0)))
starting.show()
application.exec()
"""


def run(_: list[Path]) -> None:
    """Print the medians of a few starts, each in a process of its own."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ[HOME_VARIABLE] = folder
        short = Path(folder) / "short.wav"
        soundfile.write(short, 0.3 * np.sin(np.arange(3 * 48000) * 0.05), 48000)
        for what, arguments in (
            ("--version", ["--version"]),
            ("--help", ["--help"]),
            ("survey of 3 s", ["survey", str(short), "--quiet"]),
            ("methods", ["methods"]),
        ):
            times = [_processor_seconds([sys.executable, "-m", "umbrick", *arguments]) for _ in range(_ROUNDS)]
            print(f"{what}: {np.median(times):.2f} s of processor time")
        painted = []
        for _ in range(_ROUNDS):
            how = os.environ | {"QT_QPA_PLATFORM": "offscreen", "UMBRICK_BENCH_BEGAN": str(time.time())}
            painted.append(float(subprocess.run([sys.executable, "-c", _WINDOW], env=how, capture_output=True).stdout))
        print(f"window: first painted after {np.median(painted):.2f} s")


def _processor_seconds(command: list[str]) -> float:
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, check=True, capture_output=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
