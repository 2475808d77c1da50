"""Collapsing: how much is taken out of words that were held or repeated, against what was put in.

Repeats are planted as the finding benchmark does; held cycles are put in between, so that they lengthen the word. The
place is what the survey found. Target: within 10 ms of what was planted in 90 % of cases. How the spectrum jumps at
the join is told against the recording's own jumps, and so is the jump that the clean sound has there by itself.
"""

from __future__ import annotations

from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import clean, is_speech
from benchmarks.finding import matched, survey
from benchmarks.plant import Planted, last_cycle, places, repeats
from umbrick.core.measure.jumps import OwnJumps
from umbrick.core.mend.cutting.collapse import taken_out
from umbrick.core.mend.cutting.seams import read_seam
from umbrick.core.mend.place import Place
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

_CLOSE_MS = 10.0
_ROUNDS = 4
_RARE = 0.25
"""A jump among the recording's own largest quarter."""


def held_longer(sound, rate, random):
    """Return sound in which the last pitch cycle goes round for 30 to 120 ms before the word goes on."""
    parts, truth, last, frames = [], [], 0, 0
    for at in places(sound, rate, random, max(2, len(sound) // (4 * rate)), rate // 10, 12):
        cycle = last_cycle(sound, at, rate)
        length = round(random.uniform(0.03, 0.12) * rate)
        wave = np.tile(cycle, (length // len(cycle) + 2, 1))[:length]
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
        off_ms, shares, missed = [], [], 0
        for file in filter(is_speech, files):
            sound, rate = clean(file)
            before = _version(sound, rate)
            for number in range(_ROUNDS):
                random = np.random.default_rng(crc32(f"collapse {file.stem}{f' {number}' * (number > 0)}".encode()))
                planted, truth = plant(sound, rate, random)
                found = [finding for finding in survey(planted, rate)["stutter"] if finding.confidence >= 0.5]
                version, inserted = _version(planted, rate), 0
                for fault, finding in zip(truth, matched(found, truth, round(0.015 * rate))[0], strict=True):
                    inserted += fault.stop - fault.start
                    if finding is None:
                        missed += 1
                        continue
                    cut, reading = taken_out(version, Place.of(finding))
                    at = cut.into - inserted
                    natural = read_seam(before, at, at, 0, "s", OwnJumps(before, at, at))
                    off_ms.append(1000 * abs(cut.removed - (fault.stop - fault.start)) / rate)
                    shares.append((reading.spectral_share, natural.spectral_share))
        close = sum(off <= _CLOSE_MS for off in off_ms)
        usual, natural = (np.array(shares) >= _RARE).mean(axis=0)
        print(
            f"{name:9} {close} of {len(off_ms)} found within {_CLOSE_MS:.0f} ms, median {np.median(off_ms):.1f} ms; "
            f"{missed} not found; the spectrum's jump is below the 75th percentile of the recording's own in "
            f"{usual:.0%}, in the clean sound there in {natural:.0%}"
        )


def _version(sound, rate):
    return Version.of(ArraySource(sound.astype(np.float32), rate, "s"))
