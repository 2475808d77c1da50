"""Surveying for clipping: times real time on one core, 48 kHz mono. Target: 200."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np

from benchmarks.corpus import load
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.clipping import KIND, ClippingDetector
from umbrick.core.survey.detector import Format
from umbrick.core.survey.streaming import blocks
from umbrick.core.survey.survey import Surveyor


def run(files: list[Path]) -> None:
    """Measure and print."""
    for file in files:
        sound, rate = load(file)
        repeats = max(1, round(120 * rate / len(sound)))
        source = ArraySource(np.tile(sound[:, :1], (repeats, 1)).astype(np.float32), rate, "s")
        seconds = source.frames / 48000
        began = time.process_time()
        detector = ClippingDetector(Format(rate, 1, 2.0**-23))
        for block in blocks(source):
            detector.feed(block)
        detector.findings()
        detecting = time.process_time() - began
        began = time.process_time()
        Surveyor(source, 24, [KIND]).run()
        whole = time.process_time() - began
        print(f"{file.stem:24} detector {seconds / detecting:5.0f}, whole survey with measures {seconds / whole:5.0f}")
