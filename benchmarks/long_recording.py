"""A long recording made on the spot, for measuring speed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile


def write(path: Path, seconds: int, rate: int = 48000, channels: int = 2) -> Path:
    """Write noise that swells like speech, 24 bit, with one sample over the rest in every minute."""
    random = np.random.default_rng(7)
    minute = 0.1 * random.standard_normal((60 * rate, channels))
    minute *= np.abs(np.sin(np.arange(60 * rate) * (2 * np.pi * 0.8 / rate)))[:, np.newaxis]
    minute[30 * rate] = 0.99
    with soundfile.SoundFile(path, "w", rate, channels, "PCM_24", format="WAV") as file:
        for _ in range(seconds // 60):
            file.write(minute)
    return path
