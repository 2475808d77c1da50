"""Cutting a piece out of a held vowel or note: the jump at the proposed seam, beside that of a naive cut.

Target: the proposed seam's spectral jump lies below the 90th percentile of the recording's own jumps from frame to
frame in at least 90 % of cases. A naive cut joins just at the edges, with no crossfade.

A place counts as held if the third-octave spectra of its 40 ms frames differ from each other by less than eight tenths
of the recording's usual jump.
"""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np

from benchmarks.corpus import clean, is_speech
from umbrick.core.measure.jumps import OwnJumps, band_powers, spectral_distances_db
from umbrick.core.mend.cutting import splice
from umbrick.core.mend.cutting.seams import read_seam
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

_PLACES = 20
_TRIES = 4000
_HELD = 0.8


def held_places(sound, rate, version, random):
    """Yield spans of 40 to 150 ms that lie in a held sound, with the recording's own jumps around."""
    found = 0
    for _ in range(_TRIES):
        length = int(rate * random.uniform(0.04, 0.15))
        start = int(random.integers(rate // 2, max(rate // 2 + 1, len(sound) - rate // 2 - length)))
        stop = start + length
        if np.sqrt(np.square(sound[start:stop]).mean()) < 0.1 * np.abs(sound).max():
            continue
        width = rate // 25
        frames = np.stack([sound[at : at + width] for at in range(start - width, stop + 1, width // 2)])
        powers = band_powers(frames, rate)
        apart = np.median(spectral_distances_db(powers, powers))
        own = OwnJumps(version, start, stop)
        if apart < _HELD * own.usual.spectral_db:
            yield start, stop, own
            found += 1
            if found == _PLACES:
                return


def run(files: list[Path]) -> None:
    """Measure and print."""
    random = np.random.default_rng(4)
    settings = method_named("splice").checked({})
    rows = {"speech": [], "music": []}
    spent = []
    for file in files:
        sound, rate = clean(file)
        version = Version.of(ArraySource(sound.astype(np.float32), rate, file.stem))
        kind = "speech" if is_speech(file) else "music"
        channels = tuple(range(sound.shape[1]))
        own_rows = []
        for start, stop, own in held_places(sound, rate, version, random):
            began = time.perf_counter()
            seam = splice.proposed(version, Place(start, stop, channels), settings, count=5)[0]
            spent.append(time.perf_counter() - began)
            naive = read_seam(version, start, stop, 0, own=own)
            own_rows.append((seam.reading.spectral_share, naive.spectral_share, seam.reading.score, naive.score))
        rows[kind] += own_rows
        if own_rows:
            print(f"{file.stem:28} {_told(own_rows)}")
    for kind, all_rows in rows.items():
        if all_rows:
            print(f"{kind:28} {_told(all_rows)}")
    everything = rows["speech"] + rows["music"]
    print(f"{'all':28} {_told(everything)}; proposals take {1e3 * np.median(spent):.0f} ms (median)")


def _told(rows) -> str:
    table = np.array(rows)
    below = 100 * (table[:, :2] > 0.1).mean(axis=0)
    scores = table[:, 2:].mean(axis=0)
    return (
        f"{len(table):3} cuts: below the 90th percentile proposed {below[0]:.0f} %, naive {below[1]:.0f} %; "
        f"seam score {scores[0]:.2f}, naive {scores[1]:.2f}"
    )
