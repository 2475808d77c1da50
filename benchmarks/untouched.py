"""Clean but unusual sound: what a survey lists there, and how much a mend with the default settings changes it.

Targets: nothing of confidence 0.9 or more; at most 0.5 a minute of 0.5 or more over all; every one bit-identical after
``umbrick mend``, or changed by less than −60 dB. ``UMBRICK_BENCH_KINDS`` names which sounds (all by default).
"""

from __future__ import annotations

import os
import tempfile
from collections import Counter
from functools import cache
from pathlib import Path
from zlib import crc32

import numpy as np
import soundfile
from click.testing import CliRunner

from benchmarks.corpus import clean, group_of
from benchmarks.finding import survey
from benchmarks.ramps import ramped
from benchmarks.unusual import UNUSUAL
from umbrick.cli.mend import mend_command

_LISTED, _SURE = 0.5, 0.9
_LEAST_CHANGE_DB = -60.0
_SECONDS = 12.0
_HIGHEST = 0.98
_FADE_MS = 10.0


def made(name: str, files: list[Path]):
    """Return one of the unusual sounds as ``(sound, rate, bits)``, made of recordings where it is made of any."""
    random = np.random.default_rng(crc32(name.encode()))
    voice, music = (_base(tuple(files), group) for group in ("speech", "tonal"))
    found = UNUSUAL[name](random, voice, music)
    if found is None:
        return None
    sound, rate, bits = found
    sound = sound * min(1.0, _HIGHEST / np.abs(sound).max())
    return np.atleast_2d(sound.T).T, rate, bits


@cache
def _base(files, group):
    """Return the start of a recording of a group in which itself nothing is listed, or else of the first one."""
    bases = map(_start_of, [file for file in files if group_of(file) == group] or files[:1])
    first = next(bases)
    return next((base for base in (first, *bases) if not _listed(*base)), first)


def _start_of(file):
    """Return the start of a recording, with the fades of one that was cut with care."""
    sound, rate = clean(file)
    wave = ramped(sound[: round(_SECONDS * rate), 0], _FADE_MS, rate)
    return 0.9 * wave / np.abs(wave).max(), rate


def _listed(wave, rate):
    return any(f.confidence >= _LISTED for found in survey(wave[:, np.newaxis], rate, 24).values() for f in found)


def change_db(sound, rate, bits):
    """Return by how much a mend with the default settings changes a sound, in dB of its power."""
    with tempfile.TemporaryDirectory() as folder:
        before, after = Path(folder) / "a.wav", Path(folder) / "b.wav"
        soundfile.write(before, sound, rate, subtype=f"PCM_{bits}")
        told = CliRunner().invoke(mend_command, [str(before), str(after), "--subtype", "FLOAT"])
        assert told.exit_code == 0, told.output
        one, other = (soundfile.read(path, dtype="float64", always_2d=True)[0] for path in (before, after))
    if one.shape != other.shape:
        return np.inf
    power, changed = np.mean(one**2), np.mean((one - other) ** 2)
    return 10 * np.log10(changed / power) if changed else -np.inf


def run(files: list[Path]) -> None:
    """Measure and print."""
    chosen = os.environ.get("UMBRICK_BENCH_KINDS", ",".join(UNUSUAL)).split(",")
    total, minutes, harmed = Counter(), 0.0, []
    print(f"{'sound':30} {'change':>8}   listed (surer than {_SURE})")
    for name in chosen:
        sounding = made(name, files)
        if sounding is None:
            print(f"{name:30} left out: espeak-ng is not installed")
            continue
        sound, rate, bits = sounding
        minutes += len(sound) / rate / 60
        told = []
        for kind, findings in survey(sound, rate, bits).items():
            listed = sum(f.confidence >= _LISTED for f in findings)
            sure = sum(f.confidence >= _SURE for f in findings)
            total[kind] += listed
            total["sure"] += sure
            if listed:
                told.append(f"{kind} {listed} ({sure})")
        by_db = change_db(sound, rate, bits)
        if by_db > _LEAST_CHANGE_DB:
            harmed.append(name)
        print(f"{name:30} {by_db:5.0f} dB   {', '.join(told) or '–'}", flush=True)
    sure = total.pop("sure")
    print(
        f"{sum(total.values()) / minutes:.2f} a minute listed in {minutes:.1f} min, {sure} surer than {_SURE}; "
        f"{len(harmed)} changed by more than {_LEAST_CHANGE_DB:.0f} dB: {', '.join(harmed) or 'none'}"
    )
    print(", ".join(f"{kind} {count}" for kind, count in total.most_common() if count))
