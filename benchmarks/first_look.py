"""The first look: what is advised for sound that is clean, clean but unusual, or wrong, and how long it takes.

Targets: nothing advised for clean recordings; for an hour of speech with faults under 60 s, its survey left out.
``UMBRICK_BENCH_KINDS`` names which unusual sounds (all by default).
"""

from __future__ import annotations

import os
import time
from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import as_a_file, clean, is_speech
from benchmarks.hum import hum_of
from benchmarks.noise import coloured
from benchmarks.untouched import made
from benchmarks.unusual import UNUSUAL
from umbrick.core.course.laid import Ground
from umbrick.core.course.tiles import Tiles
from umbrick.core.first_look.draft import first_look
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

_HOUR = 3600


def looked_at(sound, rate, bits):
    """Return the first look at a sound, and how many seconds it and its survey took."""
    version = Version.of(as_a_file(sound, rate, bits))
    began = time.perf_counter()
    survey = Surveyor(version, bits, list(KINDS.values())).run()
    surveyed = time.perf_counter()
    look = first_look(Ground(version, version, Tiles()), (), survey.sifted({}), survey.levels.peak)
    return look, time.perf_counter() - surveyed, surveyed - began


def told(look):
    """Return the titles of what is advised, and in brackets of what had better be left."""
    return ", ".join(one.title if one.is_advised else f"({one.title})" for one in look.proposals) or "nothing"


def an_hour(files, random):
    """Return an hour of speech with hum, noise, clicks and holes in it, and its rate."""
    rate = 48000
    voices = [clean(path) for path in files if is_speech(path)]
    voice = np.concatenate([sound.mean(axis=1) for sound, own in voices if own == rate])
    wave = np.resize(voice, _HOUR * rate).astype(np.float32)
    wave += 0.002 * hum_of("at 60 Hz", rate, rate, random)[0].astype(np.float32)[np.arange(len(wave)) % rate]
    wave += 0.004 * np.resize(coloured("pink", 60 * rate, rate, random), len(wave)).astype(np.float32)
    for at in random.integers(rate, len(wave) - rate, 600).tolist():
        wave[at : at + 3] += 0.4
    for at in random.integers(rate, len(wave) - rate, 60).tolist():
        wave[at : at + rate // 100] = 0
    return np.clip(wave, -1, 1)[:, np.newaxis], rate


def run(files: list[Path]) -> None:
    """Measure and print."""
    advised = 0
    for path in files:
        sound, rate = clean(path)
        look, _, _ = looked_at(sound, rate, 24)
        advised += bool(look.advised)
        if look.proposals:
            print(f"{path.stem}: {told(look)}")
    print(f"clean recordings for which something is advised: {advised} of {len(files)}")
    wanted = os.environ.get("UMBRICK_BENCH_KINDS", "")
    advised = count = 0
    for name in wanted.split(",") if wanted else UNUSUAL:
        found = made(name, files)
        if found is None:
            continue
        look, _, _ = looked_at(*found)
        count, advised = count + 1, advised + bool(look.advised)
        if look.proposals:
            print(f"{name}: {told(look)}")
    print(f"unusual sounds for which something is advised: {advised} of {count}")
    if any(map(is_speech, files)):
        sound, rate = an_hour(files, np.random.default_rng(crc32(b"hour")))
        look, seconds, surveyed = looked_at(sound, rate, 24)
        print(f"an hour of speech: {told(look)}; {seconds:.1f} s, its survey {surveyed:.1f} s")
