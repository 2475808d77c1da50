"""Repeats that are not exact: pieces of 40 to 150 ms that come again, faded to 0.4, then coded or resampled.

Told is how many are listed as stutter, and what else is.
"""

from __future__ import annotations

from zlib import crc32

import numpy as np
import soxr

from benchmarks.clipped_then import AFTER
from benchmarks.corpus import as_a_file, clean
from benchmarks.plant import places
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor

_A_SECOND = 0.4
_SLOWER = 0.9071


def repeating(sound, rate, random, is_faded=True):
    """Return a sound in which pieces come again at once, and their spans."""
    parts, truth, last, made = [], [], 0, 0
    for at in places(sound, rate, random, max(2, round(_A_SECOND * len(sound) / rate)), round(0.2 * rate), 15):
        length = round(rate * random.uniform(0.04, 0.15))
        again = sound[at : at + length] * np.linspace(1, 0.4 if is_faded else 1, length)[:, np.newaxis]
        parts += [sound[last : at + length], again]
        made += at + length - last
        truth.append((made, made + length))
        made, last = made + length, at + length
    return np.concatenate([*parts, sound[last:]]), truth


def _coded(name):
    return lambda sound, rate: (AFTER[name][1](sound, sound, rate, None)[0], rate if name == "MP3" else 48000)


_THEN = {
    "nothing repeated": None,
    "exact": lambda sound, rate: (sound, rate),
    "faded": lambda sound, rate: (sound, rate),
    "faded, MP3": _coded("MP3"),
    "faded, Opus": _coded("Opus at 96 kbit/s"),
    "faded, resampled": lambda sound, rate: (soxr.resample(sound, rate, _SLOWER * rate), rate),
}


def run(files) -> None:
    """Print it for each way."""
    for name, then in _THEN.items():
        planted = found = false = 0
        seconds = 0.0
        for path in files:
            sound, rate = clean(path)
            sound, truth = sound[:, :1], []
            if then is not None:
                random = np.random.default_rng(crc32(path.stem.encode()))
                before, truth = repeating(sound, rate, random, name != "exact")
                sound, rate = then(before, rate)
                truth = [(start * len(sound) / len(before), stop * len(sound) / len(before)) for start, stop in truth]
            listed = [
                finding
                for finding in Surveyor(as_a_file(sound, rate), 24, [KINDS["stutter"]]).run().sifted({})
                if not finding.detail.get("restart")
            ]
            seconds += len(sound) / rate
            planted += len(truth)
            found += sum(any(f.start < stop and f.stop > start for f in listed) for start, stop in truth)
            false += sum(not any(f.start < stop and f.stop > start for start, stop in truth) for f in listed)
        print(f"{name:18s} {found} of {planted} found, {60 * false / seconds:.2f} others a minute")
