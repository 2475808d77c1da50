"""Faint ticks, mended as a default mend does: none may come out worse than it was.

Ticks of 0.05 to 2 ms, 12 dB below to 6 dB over the level around, in clean sound. What the survey lists of them, as
whatever kind, is mended by the first remedy; told is by how much the error within 10 ms falls, and how often it rises.
"""

from __future__ import annotations

from collections import defaultdict
from zlib import crc32

import numpy as np

from benchmarks.corpus import as_a_file, at_speed, clean
from benchmarks.plant import local_level
from umbrick.core.mend.plan import apart, carried_out, planned
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

_KINDS = ("click", "mouth_click", "discontinuity", "crackle")
_EVERY_SECONDS = 0.6
_LONGEST_SECONDS = 0.002
_SPEEDS = (1.0, 0.93)


def ticked(sound, rate, random):
    """Return a sound with faint ticks, and their spans."""
    ticked, truth = sound.copy(), []
    at = round(0.3 * rate)
    while at < len(sound) - rate // 4:
        length = max(1, round(rate * 10 ** random.uniform(np.log10(0.00005), np.log10(_LONGEST_SECONDS))))
        t = np.arange(length) / length
        if random.random() < 0.5:
            wave = random.standard_normal(length) * np.exp(-3 * t)
        else:
            wave = np.cos(2 * np.pi * random.uniform(0.5, 2) * t * max(1, length / 8)) * np.exp(-4 * t)
        peak = local_level(sound, at, rate) * 10 ** (random.uniform(-12, 6) / 20)
        ticked[at : at + length] += (peak * wave / np.abs(wave).max())[:, np.newaxis]
        truth.append((at, at + length))
        at += round(random.uniform(0.5, 1.5) * _EVERY_SECONDS * rate)
    return ticked, truth


def mended_by_default(source, bits, least=0.5):
    """Return a source's findings of short damage and a version with the surer ones mended by their first remedy."""
    findings = Surveyor(source, bits, [KINDS[kind] for kind in _KINDS]).run().table.findings
    chosen = [finding for finding in findings if finding.confidence >= least]
    version = Version.of(source)
    if not chosen:
        return chosen, version
    done = carried_out(version, planned(apart(chosen, source.rate), version), chosen)
    return chosen, done.mended.version if done.mended else version


def run(files) -> None:
    """Print for each kind that ticks are listed as how they come out."""
    gains = defaultdict(list)
    for path in files:
        for speed in _SPEEDS:
            sound, rate = clean(path)
            sound = at_speed(sound, rate, speed)
            random = np.random.default_rng(crc32(f"{path.stem} {speed}".encode()))
            faulty, truth = ticked(sound, rate, random)
            findings, version = mended_by_default(as_a_file(faulty, rate), 24)
            mended = version.read(0, version.frames)
            if len(mended) != len(sound):
                raise ValueError(f"{path.stem}: a mend changed the length")
            beside = round(0.01 * rate)
            for start, stop in truth:
                kinds = {f.kind for f in findings if f.start < stop + beside and f.stop > start - beside}
                span = slice(start - beside, stop + beside)
                before, after = (float(np.sum((made[span] - sound[span]) ** 2)) + 1e-12 for made in (faulty, mended))
                gains[sorted(kinds)[0] if kinds else "not listed"].append(10 * np.log10(before / after))
    for kind, values in sorted(gains.items()):
        worse = sum(value < -0.5 for value in values)
        print(
            f"{kind:14s} {len(values):4d} ticks: {np.median(values):6.1f} dB less error in the median,"
            f" {np.mean(values):6.1f} in the mean, {worse} worse (by {-min(values):.1f} dB at most)"
        )
