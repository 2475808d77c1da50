"""Decrackling: what 60, 150 and 300 small ticks a second leave, against interpolation at the true places.

Ticks of 0.04 to 0.6 ms, their peaks 8 dB below to 6 dB over the level around, in four seconds from the middle of each
recording. The gain is that of the signal-to-noise ratio of all of it, in dB; *clean* is the ratio that is left of sound
without ticks, at most 99.
"""

from __future__ import annotations

import time
from collections import defaultdict
from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.clicks import interpolated, ratio_db
from benchmarks.corpus import clean, is_percussive, is_speech
from benchmarks.plant import local_level, tick_of
from umbrick.core.mend.impulses import decrackle
from umbrick.core.mend.method import Excerpt
from umbrick.core.model.bounds import spans_in
from umbrick.core.model.interpolation import bridged_over

_SECONDS = 4
_A_SECOND = (60, 150, 300)
_AMOUNTS = (0.2, 0.5, 0.8)
_TEXTBOOK_ORDER = 40


def planted(wave, rate, random, per_second):
    """Return a wave with ticks, and which of its samples are theirs."""
    noisy, ticks = wave.copy(), np.zeros(len(wave), bool)
    least = 0.1 * np.sqrt(np.mean(wave**2))
    for at in np.sort(random.integers(100, len(wave) - 100, round(per_second * len(wave) / rate))).tolist():
        tick = tick_of(max(local_level(wave, at, rate, 0.3), least), rate, random)
        noisy[at : at + len(tick)] += tick
        ticks[at : at + len(tick)] = True
    return noisy, ticks


def ours(wave, rate, amount):
    """Return a wave decrackled as a whole."""
    everywhere = np.ones((len(wave), 1), np.bool_)
    excerpt = Excerpt(wave[:, np.newaxis].astype(np.float32), rate, everywhere, everywhere)
    return decrackle.rebuild(excerpt, {"amount": amount})[:, 0]


def run(files: list[Path]) -> None:
    """Measure and print."""
    groups = defaultdict(list)
    cost = heard = 0.0
    print(f"{'':26} true places" + "".join(f"   amount {amount:g} (clean)" for amount in _AMOUNTS))
    for file in files:
        sound, rate = clean(file)
        first = max(0, len(sound) // 2 - _SECONDS * rate // 2)
        wave = sound[first : first + _SECONDS * rate, 0].astype(np.float32).astype(np.float64)
        gains = []
        for per_second in _A_SECOND:
            noisy, ticks = planted(
                wave, rate, np.random.default_rng(crc32(f"{file.stem}{per_second}".encode())), per_second
            )
            before = ratio_db(wave, noisy)
            began = time.process_time()
            made = [ours(noisy, rate, amount) for amount in _AMOUNTS]
            cost, heard = cost + time.process_time() - began, heard + len(_AMOUNTS) * len(wave) / rate
            spans = zip(*(edges.tolist() for edges in spans_in(ticks)), strict=True)
            made.insert(0, interpolated(bridged_over(noisy, ticks), spans, _TEXTBOOK_ORDER))
            gains.append([ratio_db(wave, one) - before for one in made])
        left = [min(99.0, ratio_db(wave, ours(wave, rate, amount))) for amount in _AMOUNTS]
        row = np.concatenate([np.mean(gains, axis=0), left])
        groups["voices" if is_speech(file) else "percussion" if is_percussive(file) else "tonal music"].append(row)
        print(f"{file.stem:26} {_line(row)}", flush=True)
    for group, rows in groups.items():
        least = np.min(rows, axis=0)[-len(_AMOUNTS) :].min()
        print(f"mean {group:21} {_line(np.mean(rows, axis=0))}; least clean {least:.0f}")
    print(f"{cost / heard:.2f} seconds of one core for a second of sound")


def _line(row):
    amounts = zip(row[1 : 1 + len(_AMOUNTS)], row[1 + len(_AMOUNTS) :], strict=True)
    return f"{row[0]:11.1f}" + "".join(f"{gain:13.1f} ({clean:4.0f})" for gain, clean in amounts)
