"""Holes to fit the weights of ``rests`` to: planted in clean sound at many speeds, and the pauses of unusual sound."""

from __future__ import annotations

from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import as_a_file, at_speed, clean, is_speech
from benchmarks.fitting_impulses import SPEEDS
from benchmarks.plant import dropouts
from benchmarks.regression import Example
from benchmarks.untouched import made
from benchmarks.unusual import UNUSUAL, coder_pauses, gated
from umbrick.core.survey.detector import Format
from umbrick.core.survey.kinds.dropout import DropoutDetector
from umbrick.core.survey.streaming import blocks

LABELS = ("lost",)
_SEEDS = 4
_GATES = [(ramp_ms, threshold_db) for ramp_ms in (0, 0.5, 1, 2, 5) for threshold_db in (-28, -36, -44)]
_MATCH_SECONDS = 0.015
_EVEN = ("beeps", "chopped pad", "hats", "pulse notes", "sub bass")
"""Told by their even time; each hole alone is like missing sound."""


def collected(path: Path) -> list[Example]:
    """Return the holes planted in a recording, and the pauses that gates and coders make of a voice."""
    sound, rate = clean(path)
    kept: list[Example] = []
    for speed in SPEEDS:
        wave = at_speed(sound, rate, speed)
        for seed in range(_SEEDS):
            random = np.random.default_rng(crc32(f"{path.stem} {speed} {seed}".encode()))
            planted, truth = dropouts(wave, rate, random)
            for start, stop, measures in _holes(planted, rate, 24):
                if any(max(abs(start - t.start), abs(stop - t.stop)) < _MATCH_SECONDS * rate for t in truth):
                    kept.append(Example(path.stem, 1, measures))
    if is_speech(path):
        voice = 0.9 * sound[:, 0] / np.abs(sound[:, 0]).max(), rate
        for make in [*(gated(*settings) for settings in _GATES), coder_pauses]:
            paused, at_rate, bits = make(None, voice, None)
            kept += [Example(path.stem, 0, hole[2]) for hole in _holes(paused[:, np.newaxis], at_rate, bits)]
    return kept


def collected_unusual(files: list[Path]) -> list[Example]:
    """Return the pauses of unusual sound."""
    found = ((name, made(name, files)) for name in UNUSUAL if name not in _EVEN)
    return [Example(name, 0, hole[2]) for name, sounding in found if sounding for hole in _holes(*sounding)]


def _holes(sound, rate, bits):
    detector = DropoutDetector(Format(rate, sound.shape[1], 2.0 ** (1 - bits)))
    for block in blocks(as_a_file(sound, rate, bits)):
        detector.feed(block)
    return detector.measured()
