"""Declicking: signal-to-noise ratio of whole recordings, against a textbook method and the true places.

40 clicks in 10 s, from one sample to 3 ms, their peaks 3 to 20 dB over the level around. The textbook method takes for
damage what exceeds fourteen robust deviations of a linear-prediction residual, and interpolates by least squares.
"""

from __future__ import annotations

import time
from collections import defaultdict
from pathlib import Path
from zlib import crc32

import numpy as np
from scipy.ndimage import binary_dilation

from benchmarks.corpus import as_a_file, clean, is_speech
from benchmarks.plant import local_level
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.impulses.declick import rebuilt
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.model.autoregression import modelled
from umbrick.core.model.bounds import spans_in
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

_A_SECOND = 4.0
_FRAME = 2048


def planted(wave, rate, random):
    """Return a wave with clicks, and their spans."""
    noisy, truth = wave.copy(), []
    for at in np.sort(random.integers(rate // 5, len(wave) - rate // 5, round(_A_SECOND * len(wave) / rate))).tolist():
        if truth and at < truth[-1][1] + rate // 50:
            continue
        length = max(1, round(rate * 10 ** random.uniform(np.log10(1 / rate), np.log10(0.003))))
        t = np.arange(length) / length
        if length == 1:
            click = np.array([random.choice((-1.0, 1.0))])
        elif random.random() < 0.5:
            click = random.standard_normal(length) * np.exp(-3 * t)
        else:
            click = np.cos(2 * np.pi * random.uniform(0.5, 2) * t * max(1, length / 8)) * np.exp(-4 * t)
        peak = 1.4 * local_level(wave, at, rate) * 10 ** (random.uniform(3, 20) / 20)
        noisy[at : at + length] += peak * click / np.abs(click).max()
        truth.append((at, at + length))
    return noisy, truth


def ours(wave, rate):
    """Return a wave with what the survey takes for clicks mended, and their places."""
    source = as_a_file(wave[:, np.newaxis], rate)
    found = Surveyor(source, 24, [KINDS["click"]]).run().table.findings
    places = [Place.of(finding) for finding in found if finding.confidence >= 0.5]
    if not places:
        return wave.copy(), []
    mended = apply_method(Version.of(source), METHODS["declick"], {}, places, workers=1).version
    spans = [(place.start, place.stop) for place in places]
    return mended.read(0, mended.frames)[:, 0].astype(np.float64), spans


def textbook(wave, rate):
    """Return a wave mended by threshold and least squares, and the places."""
    damage = np.zeros(len(wave), bool)
    for start in range(0, len(wave), _FRAME):
        frame = wave[max(0, start - 64) : start + _FRAME]
        model = modelled(frame, 30)
        if model is None:
            continue
        error = np.convolve(frame, model.error_filter)[: len(frame)]
        loud = np.abs(error) > 14 * np.median(np.abs(error)) / 0.6745
        damage[max(0, start - 64) : start + _FRAME] |= loud & (np.arange(len(frame)) >= 30 + (start > 0) * 34)
    damage = binary_dilation(damage, iterations=4)
    spans = list(zip(*(edges.tolist() for edges in spans_in(damage)), strict=True))
    return interpolated(wave, spans), spans


def interpolated(wave, spans, order=None):
    """Return a wave with spans interpolated by least squares."""
    mended = wave.copy()
    for start, stop in spans:
        mended[start:stop] = rebuilt(mended, start, stop, order)
    return mended


def ratio_db(truth, wave):
    """Return the signal-to-noise ratio of a whole wave against the truth, in dB."""
    return 10 * np.log10(np.sum(truth**2) / (np.sum((truth - wave) ** 2) + 1e-20))


def _found(spans, truth):
    hits = sum(any(a < stop + 3 and b > start - 3 for a, b in spans) for start, stop in truth)
    wrong = sum(not any(a < stop + 3 and b > start - 3 for start, stop in truth) for a, b in spans)
    return 2 * hits / max(1, hits + len(truth) + wrong)


def run(files: list[Path]) -> None:
    """Measure and print."""
    rows = defaultdict(list)
    cost = heard = 0.0
    spikes: list[float] = []
    print(f"{'':28} before  textbook  ours  true places   F1 textbook, ours   false in 10 s clean: textbook, ours")
    for file in files:
        sound, rate = clean(file)
        wave = sound[:, 0]
        noisy, truth = planted(wave, rate, np.random.default_rng(crc32(f"clicks {file.stem}".encode())))
        plain, plain_spans = textbook(noisy, rate)
        began = time.process_time()
        mended, spans = ours(noisy, rate)
        cost, heard = cost + time.process_time() - began, heard + len(wave) / rate
        false = [10 * rate * len(method(wave, rate)[1]) / len(wave) for method in (textbook, ours)]
        row = [ratio_db(wave, made) for made in (noisy, plain, mended, interpolated(noisy, truth))]
        singles = [(a, abs(mended[a] - wave[a]) / abs(noisy[a] - wave[a])) for a, b in truth if b - a == 1]
        spikes += [20 * np.log10(left + 1e-9) for _, left in singles]
        row += [_found(plain_spans, truth), _found(spans, truth), *false]
        rows["speech" if is_speech(file) else "music"].append(row)
        print(f"{file.stem:28}{_line(row)}", flush=True)
    for group, found in rows.items():
        print(f"mean {group:23}{_line(np.mean(found, axis=0))}")
    below = np.mean(np.array(spikes) <= -30)
    print(f"single samples: {len(spikes)}, left {np.median(spikes):.0f} dB of them (median), {below:.0%} below −30 dB")
    print(f"survey and mend: {heard / cost:.0f} times real time on one core")


def _line(row):
    return "{:7.1f}{:8.1f}{:8.1f}{:9.1f}{:14.2f}{:7.2f}{:18.2f}{:8.2f}".format(*row)
