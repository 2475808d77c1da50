"""Opening an hour of 48 kHz stereo 24 bit: first picture, full pyramid against a plain read, memory.

Targets: first picture within 0.5 s, pyramid at most 1.5 times a plain block-wise read, memory under 400 MB.
"""

from __future__ import annotations

import resource
import tempfile
import time
from pathlib import Path

import soundfile

from benchmarks import long_recording
from umbrick.core.sound.pyramid import Pyramid, build, sketch
from umbrick.core.sound.recording import open_recording


def _plain_read(path: Path) -> float:
    began = time.perf_counter()
    with soundfile.SoundFile(path) as file:
        while len(file.read(2**18, dtype="float32", always_2d=True)):
            pass
    return time.perf_counter() - began


def run(files: list[Path]) -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as folder:
        path = long_recording.write(Path(folder) / "hour.wav", 3600)
        _plain_read(path)
        began = time.perf_counter()
        recording = open_recording(path, Path(folder))
        sketch(recording.source, 1200)
        print(f"first picture {time.perf_counter() - began:.3f} s")
        ratios = []
        for _ in range(3):
            plain = _plain_read(path)
            began = time.perf_counter()
            build(Pyramid(recording.source.frames, 2), recording.source)
            ratios.append((time.perf_counter() - began) / plain)
        print(f"pyramid / plain read: {' '.join(f'{ratio:.2f}' for ratio in ratios)} (plain {plain:.2f} s)")
        recording.close()
    print(f"peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")
