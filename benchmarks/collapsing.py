"""Collapsing: how much is taken out of words that were held or repeated, against what was put in.

Repeats are planted as the finding benchmark does; held cycles are put in between, so that they lengthen the word. The
place is what the survey found. Target: within 10 ms of what was planted in 90 % of cases.
"""

from __future__ import annotations

from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import clean, is_speech
from benchmarks.finding import matched, survey
from benchmarks.plant import Planted, places, repeats
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

_CLOSE_MS = 10.0


def held_longer(sound, rate, random):
    """Return sound in which the last pitch cycle goes round for 30 to 120 ms before the word goes on."""
    parts, truth, last, frames = [], [], 0, 0
    for at in places(sound, rate, random, max(2, len(sound) // (4 * rate)), rate // 10, 12):
        before = sound[at - round(0.04 * rate) : at].mean(axis=1)
        lags = np.arange(round(0.0025 * rate), round(0.016 * rate))
        own = before[-round(0.016 * rate) :]
        match = [np.dot(own, before[len(before) - len(own) - lag : len(before) - lag]) for lag in lags]
        cycle = int(lags[int(np.argmax(match))])
        length = round(random.uniform(0.03, 0.12) * rate)
        wave = np.tile(sound[at - cycle : at], (length // cycle + 2, 1))[:length]
        wave = wave * np.linspace(1, random.uniform(0.3, 0.9), length)[:, np.newaxis]
        parts += [sound[last:at], wave]
        frames += at - last
        truth.append(Planted(frames, frames + length))
        frames += length
        last = at
    return np.concatenate([*parts, sound[last:]]), truth


def run(files: list[Path]) -> None:
    """Measure and print."""
    for name, plant in (("repeated", repeats), ("held", held_longer)):
        off_ms, missed = [], 0
        for file in files:
            if not is_speech(file):
                continue
            sound, rate = clean(file)
            planted, truth = plant(sound, rate, np.random.default_rng(crc32(f"collapse {file.stem}".encode())))
            found = [finding for finding in survey(planted, rate)["stutter"] if finding.confidence >= 0.5]
            version = Version.of(ArraySource(planted.astype(np.float32), rate, "s"))
            for fault, finding in zip(truth, matched(found, truth, round(0.015 * rate))[0], strict=True):
                if finding is None:
                    missed += 1
                    continue
                done = apply_method(version, METHODS["collapse"], {}, [Place.of(finding)])
                removed = version.frames - done.version.frames
                off_ms.append(1000 * abs(removed - (fault.stop - fault.start)) / rate)
        close = sum(off <= _CLOSE_MS for off in off_ms)
        print(
            f"{name:9} {close} of {len(off_ms)} found within {_CLOSE_MS:.0f} ms, median {np.median(off_ms):.1f} ms; "
            f"{missed} not found"
        )
