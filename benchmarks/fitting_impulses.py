"""Impulses to fit ``impulse_sorting`` to: those of clean sound, and planted in it, at many speeds and rates."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.clicks import planted as many_clicks
from benchmarks.corpus import as_a_file, at_speed, clean, is_speech
from benchmarks.plant import Planted, clicks, discontinuities, local_level, mouth_clicks, places, spikes
from benchmarks.regression import Example
from umbrick.core.survey.impulses.impulse_measures import NARROW_BELOW_RATE, measured, worth_a_look
from umbrick.core.survey.impulses.impulses import impulses
from umbrick.core.survey.streaming import blocks

LABELS = ("clicks", "breaks", "mouth clicks")
_CLICK, _BREAK, _MOUTH = 1, 2, 3

SPEEDS = (0.85, 0.91, 0.97, 1.0, 1.03, 1.09, 1.17, 1.25)
_RATES = (0, 8000, 11025, 16000, 22050, 32000, 44100)
"""Each recording as it is, and at those of these rates that are lower."""

_SEEDS = 2
_MATCH_MS = 3.0
_CLICKS_KEPT = 0.1
"""Of the clicks one in ten will do: there are many, and most are plain."""


def _wrong_stretches(sound, rate, random):
    """Plant what a faulty transfer leaves: one to six samples that are off by one value."""
    sound, truth = sound.copy(), []
    for at in places(sound, rate, random, max(2, round(0.7 * len(sound) / rate)), 6):
        stop = at + int(random.integers(1, 7))
        size = local_level(sound, at, rate) * 10 ** (random.uniform(3, 24) / 20)
        sound[at:stop] += size * random.choice((-1, 1))
        truth.append(Planted(at, stop))
    return sound, truth


def _many(sound, rate, random):
    noisy, truth = many_clicks(sound[:, 0], rate, random)
    return noisy[:, np.newaxis], [Planted(*span) for span in truth]


_PLANTED = (
    (_CLICK, spikes),
    (_CLICK, clicks),
    (_CLICK, _many),
    (_CLICK, _wrong_stretches),
    (_BREAK, discontinuities),
    (_MOUTH, mouth_clicks),
)


def collected(path: Path) -> tuple[list[Example], list[Example]]:
    """Return the impulses of a recording at a full band, and at a telephone's."""
    sound, rate = clean(path)
    full: list[Example] = []
    narrow: list[Example] = []
    for at_rate in (lower or rate for lower in _RATES if lower < rate):
        kept = narrow if at_rate < NARROW_BELOW_RATE else full
        for speed in SPEEDS:
            wave = at_speed(sound, rate, speed, at_rate)
            kept += [Example(path.stem, 0, row) for row in _impulses(wave, at_rate)[1]]
            for seed in range(_SEEDS):
                for number, (label, plant) in enumerate(_PLANTED):
                    if label != _MOUTH or is_speech(path):
                        random = np.random.default_rng(crc32(f"{path.stem} {at_rate} {speed} {seed} {number}".encode()))
                        kept += _planted(path.stem, wave, at_rate, label, plant, random)
    return full, narrow


def _planted(file, wave, rate, label, plant, random) -> Iterator[Example]:
    noisy, truth = plant(wave, rate, random)
    frames, rows, excess = _impulses(noisy, rate)
    reach = round(_MATCH_MS * rate / 1000)
    for fault in truth:
        near = np.flatnonzero((frames >= fault.start - reach // 4) & (frames < fault.stop + reach))
        if len(near) and (label != _CLICK or random.random() < _CLICKS_KEPT):
            yield Example(file, label, rows[near[np.argmax(excess[near])]])


def _impulses(sound, rate):
    """Return the frames and measures of a sound's impulses, and how far each stands out."""
    frames, rows, excess = [], [], []
    for block in blocks(as_a_file(sound, rate)):
        for residual, found in block.shared(impulses):
            chosen = worth_a_look(found, residual, rate)
            if len(chosen):
                seen = measured(residual, found.where(chosen), rate)
                frames += (residual.first + found.peak[chosen]).tolist()
                excess += seen.excess_db.tolist()
                measures = np.array(list(seen.columns.values())).T.tolist()
                rows += [dict(zip(seen.columns, values, strict=True)) for values in measures]
    return np.array(frames, np.int64), rows, np.array(excess)
