"""Gaps: signal-to-noise ratio inside, and energy against the truth, of every way to fill them.

Gaps of 1, 5, 10, 20 and 50 ms in sound that is not far below the recording's level. A plain cubic spline, a textbook
autoregressive interpolator (order three times the gap, 256 to 1000), a donor alone and a donor whose difference is
bridged stand beside the bridge; ``best`` is the best of the three references for each gap, known only from the truth.
The seam scores of all of them, and of silence, are compared with the true error by rank.
"""

from __future__ import annotations

import os
import time
from collections import defaultdict
from pathlib import Path
from zlib import crc32

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.stats import spearmanr

from benchmarks.corpus import clean, is_speech
from umbrick.core.measure.seam import Surroundings
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.filling.donors import donors
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.model.interpolation import interpolated
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

_LENGTHS_MS = (1, 5, 10, 20, 50)
_COUNT = int(os.environ.get("UMBRICK_BENCH_GAPS", "4"))
_QUIETEST = 0.03
_PLAIN_SHARE = 1e-9
"""The textbook's interpolator adds just enough noise to stay solvable."""


def gaps(wave, rate, milliseconds, name):
    """Return spans of one length in sound within 15 dB of the whole's level."""
    random = np.random.default_rng(crc32(f"gaps {name} {milliseconds}".encode()))
    sums = np.concatenate([[0.0], np.cumsum(wave**2)])
    length, found = round(milliseconds * rate / 1000), []
    while len(found) < _COUNT:
        start = int(random.integers(rate // 2, len(wave) - rate // 2 - length))
        half, middle = max(length, rate // 50) // 2, start + length // 2
        if (sums[middle + half] - sums[middle - half]) / (2 * half) > _QUIETEST * sums[-1] / len(wave):
            found.append((start, start + length))
    return found


def _spline(wave, start, stop, rate):
    at = np.r_[start - 20 : start, stop : stop + 20]
    return CubicSpline(at, wave[at])(np.arange(start, stop))


def textbook(wave, start, stop, rate):
    """Return a gap by the plain autoregressive interpolator."""
    order = int(np.clip(3 * (stop - start), 256, 1000))
    reach = max(4 * order, 2048)
    left = max(0, start - reach)
    return interpolated(wave[left : stop + reach], start - left, stop - left, order, 3, _PLAIN_SHARE)[0]


def _donor(wave, start, stop, rate):
    found = donors(ArraySource(wave.astype(np.float32)[:, None], rate, "s"), start, stop, [0], 1)
    if not found:
        return np.zeros(stop - start)
    at = found[0].start
    return found[0].laid(wave[at : at + stop - start, np.newaxis])[:, 0]


def _bridged_donor(wave, start, stop, rate):
    found = donors(ArraySource(wave.astype(np.float32)[:, None], rate, "s"), start, stop, [0], 1)
    if not found:
        return textbook(wave, start, stop, rate)
    at = found[0].start
    reach = min(4000, start, len(wave) - stop, at, len(wave) - at - (stop - start))
    donor = found[0].laid(wave[at - reach : at + stop - start + reach, np.newaxis])[:, 0]
    difference = wave[start - reach : stop + reach] - donor
    inside = slice(reach, reach + stop - start)
    return donor[inside] + textbook(difference, inside.start, inside.stop, rate)


def _bridge(using):
    def fill(wave, start, stop, rate):
        version = Version.of(ArraySource(wave.astype(np.float32)[:, None], rate, "s"))
        made = apply_method(version, METHODS["bridge"], {"using": using}, [Place(start, stop, (0,))], workers=1)
        return made.version.read(start, stop)[:, 0].astype(np.float64)

    return fill


_REFERENCES = {"textbook": textbook, "donor": _donor, "bridged donor": _bridged_donor}
_METHODS = {"spline": _spline} | _REFERENCES
_METHODS |= {f"bridge, {using}": _bridge(using) for using in ("prediction", "auto")}


def ratio_db(truth, made):
    """Return the signal-to-noise ratio of a filling, at least −20 dB."""
    return max(-20.0, 10 * np.log10(np.sum(truth**2) / (np.sum((truth - made) ** 2) + 1e-20)))


def _seam_score(wave, start, stop, made, rate):
    first, last = max(0, start - rate), min(len(wave), stop + rate)
    filled = wave[first:last].copy()
    filled[start - first : stop - first] = made
    rebuilt = np.zeros(len(filled), bool)
    rebuilt[start - first : stop - first] = True
    return float(Surroundings(filled, rebuilt, rate).scores(np.array([start - first]), np.array([stop - first]))[0])


def run(files: list[Path]) -> None:
    """Measure and print."""
    ratios, energies, costs = (defaultdict(list) for _ in range(3))
    scores, errors = [], []
    for file in files:
        sound, rate = clean(file)
        wave, group = sound[:, 0], "speech" if is_speech(file) else "music"
        for length in _LENGTHS_MS:
            for start, stop in gaps(wave, rate, length, file.stem):
                hidden = wave.copy()
                hidden[start:stop] = 0
                row = {}
                for name, fill in _METHODS.items():
                    began = time.perf_counter()
                    made = fill(hidden, start, stop, rate)
                    costs[name, length].append(time.perf_counter() - began)
                    row[name] = ratio_db(wave[start:stop], made)
                    ratios[group, name, length].append(row[name])
                    scores.append(_seam_score(wave, start, stop, made, rate))
                    errors.append(-row[name])
                    energies[group, name, length].append(
                        10 * np.log10((np.sum(made**2) + 1e-12) / np.sum(wave[start:stop] ** 2))
                    )
                scores.append(_seam_score(wave, start, stop, np.zeros(stop - start), rate))
                errors.append(0.0)
                ratios[group, "best", length].append(max(row[name] for name in _REFERENCES))
    print(f"gaps of {', '.join(map(str, _LENGTHS_MS))} ms: ratio in dB | energy in dB | slowest of them in seconds")
    for group in ("speech", "music"):
        for name in [*_METHODS, "best"]:
            cells = [f"{np.mean(ratios[group, name, length]):6.1f}" for length in _LENGTHS_MS]
            if name != "best":
                cells += ["|", *(f"{np.mean(energies[group, name, length]):6.1f}" for length in _LENGTHS_MS)]
                cells += ["|", *(f"{max(costs[name, length]):6.2f}" for length in _LENGTHS_MS)]
            print(f"{group:7} {name:19}{' '.join(cells)}")
    print(
        f"seam score against true error: rank correlation {-spearmanr(scores, errors)[0]:.2f}, {len(scores)} fillings"
    )
