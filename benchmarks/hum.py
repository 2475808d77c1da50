"""Dehumming: signal-to-distortion ratio after hum of eight harmonics, against a textbook fit.

Hum 10 dB under the sound: at 50 Hz drifting by 0.05 Hz, at 60 and 16⅔ Hz, switched by 0.5 Hz, and coming and going. The
textbook fits sines of the mean frequency in windows of four seconds, every moment weighed by the inverse of its power.
Targets: 20 dB on speech, 16 on music, no file below 6; clean files left alone, or kept at 40 dB; 60 times real time.
"""

from __future__ import annotations

import time
from collections import defaultdict
from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import as_a_file, clean, is_speech
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import ParameterError
from umbrick.core.mend.registry import METHODS
from umbrick.core.timeline.version import Version

_SECONDS = 20
_HARMONICS = 8


def fundamental(kind, frames, rate, random):
    """Return the frequency of hum of a kind, frame by frame."""
    seconds = np.arange(frames) / rate
    if kind == "switched":
        return 50 + 0.5 * (seconds > 0.4 * frames / rate)
    mains = {"at 60 Hz": 60.0, "at 16⅔ Hz": 50 / 3}.get(kind, 50.0)
    return mains + 0.05 * np.sin(2 * np.pi * seconds / 20 + random.uniform(0, 2 * np.pi))


def hum_of(kind, frames, rate, random):
    """Return hum of a kind, and its mean fundamental."""
    hz = fundamental(kind, frames, rate, random)
    turns = np.cumsum(hz) / rate
    numbers = np.arange(1, _HARMONICS + 1)
    levels = numbers ** -random.uniform(0.3, 1.2) * 10 ** (random.uniform(-6, 6, _HARMONICS) / 20)
    starts = random.uniform(0, 1, _HARMONICS)
    hum = sum(a * np.sin(2 * np.pi * (n * turns + s)) for n, a, s in zip(numbers, levels, starts, strict=True))
    if kind == "coming and going":
        hum = hum * (np.arange(frames) / rate % 10 < 6)
    return hum, float(hz.mean())


def textbook(wave, rate, hz):
    """Return a wave without fitted sines of fixed frequency."""
    size = 4 * rate
    numbers = np.arange(1, _HARMONICS + 1)
    power = np.convolve(wave**2, np.ones(rate // 20) / (rate // 20), "same")
    taken, laid = np.zeros(len(wave)), np.zeros(len(wave))
    bell = np.hanning(size) + 1e-6
    for start in [*range(0, len(wave) - size, size // 2), len(wave) - size]:
        part = slice(start, start + size)
        angles = 2 * np.pi * hz / rate * np.outer(np.arange(part.start, part.stop), numbers)
        columns = np.concatenate([np.cos(angles), np.sin(angles)], axis=1)
        weights = 1 / (power[part] + 1e-3 * power.mean())
        solved = np.linalg.solve(columns.T @ (weights[:, np.newaxis] * columns), columns.T @ (weights * wave[part]))
        taken[part] += bell * (columns @ solved)
        laid[part] += bell
    return wave - taken / laid


def dehummed(wave, rate):
    """Return a wave through the treatment, and how many times real time it took to make and to learn."""
    version = Version.of(as_a_file(wave[:, np.newaxis], rate, 32))
    ground = Ground(version, version, Tiles())
    began = time.perf_counter()
    step = learned(ground, (), new_step(METHODS["dehum"], {}, (0,), None, ()))
    known = time.perf_counter()
    made = ground.through((step,)).read(0, version.frames)[:, 0].astype(np.float64)
    seconds = len(wave) / rate
    return made, seconds / (time.perf_counter() - known), seconds / (known - began)


def ratio_db(made, truth):
    """Return the signal-to-distortion ratio."""
    return 10 * np.log10(np.sum(truth**2) / np.sum((made - truth) ** 2))


def run(files: list[Path]) -> None:
    """Measure and print."""
    ratios, speeds, learning, untouched = defaultdict(list), [], [], []
    for path in files:
        sound, rate = clean(path)
        truth = sound[: _SECONDS * rate].mean(axis=1)
        try:
            untouched.append(f"{path.stem} {ratio_db(dehummed(truth, rate)[0], truth):.0f} dB")
        except ParameterError:
            untouched.append(f"{path.stem} declined")
        for kind in ("drifting", "at 60 Hz", "at 16⅔ Hz", "switched", "coming and going"):
            random = np.random.default_rng(crc32((path.name + kind).encode()))
            hum, hz = hum_of(kind, len(truth), rate, random)
            hum *= np.sqrt(np.mean(truth**2) / np.mean(hum**2) / 10)
            try:
                made, speed, learned_at = dehummed(truth + hum, rate)
                speeds.append(speed)
                learning.append(learned_at)
            except ParameterError:
                made = truth + hum
            group = "speech" if is_speech(path) else "music"
            ratios[group, kind].append((ratio_db(made, truth), ratio_db(textbook(truth + hum, rate, hz), truth)))
    for (group, kind), found in sorted(ratios.items()):
        (ours, theirs), (worst, their_worst) = np.mean(found, axis=0), np.min(found, axis=0)
        print(
            f"{group:7}{kind:17}{ours:5.1f} dB, worst {worst:4.1f}   textbook {theirs:5.1f}, worst {their_worst:5.1f}"
        )
    print(f"clean: {', '.join(untouched)}")
    print(f"{np.median(speeds):.0f} times real time, learning {np.median(learning):.0f}")
