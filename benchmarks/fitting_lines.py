"""Lines to fit the weights of ``intrusion`` to: of clean sound, and of calls planted in it, at many speeds."""

from __future__ import annotations

from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import at_speed, clean
from benchmarks.fitting_impulses import SPEEDS
from benchmarks.plant import intrusions
from benchmarks.regression import Example
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.detector import Format
from umbrick.core.survey.kinds.intrusion import IntrusionDetector
from umbrick.core.survey.streaming import blocks

LABELS = ("calls",)
_SEEDS = 3
_MOST_SECONDS = 60
_MATCH_SECONDS = 0.1


def collected(path: Path) -> list[Example]:
    """Return the lines of a recording, and those nearest to calls planted in it."""
    sound, rate = clean(path)
    sound = sound[: _MOST_SECONDS * rate]
    kept: list[Example] = []
    for speed in SPEEDS:
        wave = at_speed(sound, rate, speed)
        kept += [Example(path.stem, 0, row) for _, row in _lines(wave, rate)]
        for seed in range(_SEEDS):
            random = np.random.default_rng(crc32(f"{path.stem} {speed} {seed}".encode()))
            planted, truth = intrusions(wave, rate, random)
            lines = _lines(planted, rate)
            for call in truth:
                off = [abs(line.start - call.start) + abs(line.stop - call.stop) for line, _ in lines]
                if off and min(off) < 2 * _MATCH_SECONDS * rate:
                    kept.append(Example(path.stem, 1, lines[int(np.argmin(off))][1]))
    return kept


def _lines(sound, rate):
    """Return the lines of a sound, each with its measures."""
    detector = IntrusionDetector(Format(rate, sound.shape[1], 0.0))
    for block in blocks(ArraySource(sound.astype(np.float32), rate, "s")):
        detector.feed(block)
    lines, columns = detector.measured()
    measures = np.array(list(columns.values())).T.tolist()
    return [(line, dict(zip(columns, values, strict=True))) for line, values in zip(lines, measures, strict=True)]
