"""Surveying for every kind: times real time, against one plain spectrum; first findings; memory at three hours.

Targets: 100 times real time at 48 kHz mono on two cores, clipping alone 200 on one; first findings within a second;
under 700 MB at three hours (measured in a process of its own, with the recording read from a file).
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import ShortTimeFFT

from benchmarks.corpus import load
from umbrick.core.sound.recording import open_recording
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.kinds.clipping import KIND as CLIPPING
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor

_SECONDS, _HOURS = 120, 3
_FRAME = 2048


def _first_findings(source):
    """Return after how many seconds the survey tells of its first findings."""
    began, first = time.perf_counter(), []

    def told(partial):
        if not first and len(partial.table.findings):
            first.append(time.perf_counter() - began)

    Surveyor(source, 24, list(KINDS.values())).run(found=told)
    return first[0] if first else float("nan")


def _measured_alone(path: Path) -> None:
    """Survey a file and print the seconds it took and the most memory it needed: run in a process of its own."""
    recording = open_recording(path, Path(tempfile.mkdtemp()))
    began = time.perf_counter()
    result = Surveyor(recording.source, 24, list(KINDS.values())).run()
    took = time.perf_counter() - began
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"{recording.source.frames / recording.source.rate / took:.0f} times real time, {peak:.0f} MB at most, "
          f"{len(result.table.findings)} findings")  # fmt: skip


def run(files: list[Path]) -> None:
    """Measure and print."""
    spectrum = ShortTimeFFT(np.hanning(_FRAME), _FRAME // 4, 48000)
    for file in files:
        sound, rate = load(file)
        repeats = max(1, round(_SECONDS * rate / len(sound)))
        wave = np.tile(sound[:, :1], (repeats, 1)).astype(np.float32)
        source, seconds = ArraySource(wave, rate, "s"), len(wave) / 48000
        began = time.perf_counter()
        Surveyor(source, 24, list(KINDS.values())).run()
        everything = time.perf_counter() - began
        began = time.process_time()
        Surveyor(source, 24, [CLIPPING]).run()
        clipping = time.process_time() - began
        began = time.process_time()
        for start in range(0, len(wave), 10 * rate):
            np.square(np.abs(spectrum.stft(wave[start : start + 10 * rate, 0])))
        plain = time.process_time() - began
        print(
            f"{file.stem:24} every kind {seconds / everything:4.0f}, clipping alone {seconds / clipping:4.0f}; "
            f"{everything / plain:4.1f} times one plain spectrum; first findings after {_first_findings(source):.2f} s"
        )
    sound, rate = load(files[0])
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.wav"
        with soundfile.SoundFile(path, "w", rate, 1, "PCM_24", format="RF64") as out:
            for _ in range(max(1, _HOURS * 3600 * rate // len(sound))):
                out.write(sound[:, 0])
        print(f"{_HOURS} hours of {files[0].stem}: ", end="", flush=True)
        subprocess.run([sys.executable, "-m", "benchmarks.survey_speed", str(path)], check=True)


if __name__ == "__main__":
    _measured_alone(Path(sys.argv[1]))
