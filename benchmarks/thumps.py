"""Thumps: how much nearer to the truth the half second after a big click comes than by declicking alone.

Told is too how often one is seen where there is none. Eight clicks a recording, each with a swing of 12 to 45 Hz that
glides and dies away, and a faster one; as loud as the recording, 3 dB less to 9 dB more.
"""

from __future__ import annotations

from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import clean
from umbrick.core.errors import ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

_COUNT = 8
_CLICK_SECONDS = 0.001


def _swing(rate, level, random):
    t = np.arange(round(0.45 * rate)) / rate
    hertz, fall, glide = random.uniform(12, 45), random.uniform(0.03, 0.1), random.uniform(-0.15, 0.15)
    wave = np.exp(-t / fall) * np.sin(2 * np.pi * hertz * (t + glide * t**2) + random.uniform(0, 6.28))
    wave += 0.4 * np.exp(-t / (0.3 * fall)) * np.sin(2 * np.pi * 2.3 * hertz * t + 1)
    return level * wave / np.abs(wave).max()


def _mended(wave, rate, at, length, method):
    """Return a wave mended at a click, or None if the method finds nothing to do."""
    version = Version.of(ArraySource(wave.astype(np.float32)[:, np.newaxis], rate, "s"))
    try:
        done = apply_method(version, METHODS[method], {}, [Place(at, at + length, (0,))]).version
    except ParameterError:
        return None
    return done.read(0, done.frames)[:, 0].astype(np.float64)


def run(files: list[Path]) -> None:
    """Measure and print."""
    gains, seen = [], 0
    for file in files:
        sound, rate = clean(file)
        wave, random = sound[:, 0], np.random.default_rng(crc32(f"thumps {file.stem}".encode()))
        length = max(2, round(_CLICK_SECONDS * rate))
        own = []
        for _ in range(_COUNT):
            at = int(random.integers(round(1.05 * rate), len(wave) - round(0.6 * rate)))
            level = float(np.sqrt(np.mean(wave**2))) * 10 ** (random.uniform(-3, 9) / 20)
            noisy = wave.copy()
            swing = _swing(rate, level, random)
            noisy[at : at + len(swing)] += swing
            noisy[at : at + length] += 4 * level * random.standard_normal(length) * np.linspace(1, 0, length)
            after = slice(at, at + rate // 2)
            declicked, dethumped = (_mended(noisy, rate, at, length, method) for method in ("declick", "dethump"))
            if dethumped is None:
                dethumped = declicked
            errors = [np.square(made[after] - wave[after]).sum() for made in (declicked, dethumped)]
            own.append(10 * np.log10(errors[0] / errors[1]))
            seen += _mended(wave, rate, at, length, "dethump") is not None
        gains += own
        print(f"{file.stem:28} {' '.join(f'{gain:5.1f}' for gain in own)}", flush=True)
    print(
        f"median {np.median(gains):.1f} dB nearer than by declicking alone, worst {min(gains):.1f} dB; "
        f"left alone {np.mean(np.array(gains) == 0):.0%}; seen in clean sound {seen} of {len(gains)}"
    )
