"""The synthetic voices of the demo, from espeak-ng."""

from __future__ import annotations

import io
import subprocess

import soundfile
import soxr

from umbrick.demo.faults import Sound


def spoken(text: str, rate: int, voice: str, words_a_minute: int, pitch: int) -> Sound:
    """Return a text as a voice says it, shape ``(frames,)``; espeak-ng must be installed."""
    manner = ["-v", voice, "-s", str(words_a_minute), "-p", str(pitch)]
    said = subprocess.run(["espeak-ng", *manner, "--stdout", text], capture_output=True, check=True).stdout
    wave, spoken_rate = soundfile.read(io.BytesIO(said))
    return soxr.resample(wave, spoken_rate, rate)
