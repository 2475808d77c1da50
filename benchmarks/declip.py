"""Declipping: gain in signal-to-distortion ratio on the clipped samples, by input ratio, and seconds a second of sound.

Symmetric hard clipping of the loudest 1.2 s of each recording. A plain cubic spline (moved to the rail where it falls
short) stands beside the candidates; ``best`` is the best of the textbook methods for each recording and level: the
spline, consistent linear prediction, the sparse spectrum frame by frame, and both in turn.
"""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path

import numpy as np
from scipy.interpolate import CubicSpline

from benchmarks import textbook_spade
from benchmarks.corpus import clean, is_speech, loudest
from benchmarks.planting import clip_to_sdr
from umbrick.core.mend.declipping import declip, prediction
from umbrick.core.mend.method import Excerpt
from umbrick.core.model.bounds import Bounds

_LEVELS = (3, 5, 7, 10, 15, 20)


def _spline(wave, mask, rate):
    known = np.flatnonzero(~mask)
    result = wave.copy()
    result[mask] = CubicSpline(known, wave[known])(np.flatnonzero(mask))
    return Bounds.of(wave, mask).applied(result)


def _method(using: str) -> Callable:
    def rebuild(wave, mask, rate):
        excerpt = Excerpt(wave.astype(np.float32)[:, None], rate, mask[:, None], mask[:, None])
        return declip.rebuild(excerpt, {"using": using})[:, 0]

    return rebuild


def _textbook_refined(wave, mask, rate):
    return prediction.rebuild(wave, mask, start=textbook_spade.rebuild(wave, mask, rate), order=256, sweeps=1)


_METHODS = {"spline": _spline, "tones alone": textbook_spade.rebuild, "tones, then prediction": _textbook_refined}
_METHODS |= {using: _method(using) for using in ("curve", "prediction", "sparse", "auto")}
_REFERENCES = ("spline", "tones alone", "tones, then prediction", "prediction")


def gain_db(truth, before, after, mask) -> float:
    """Return how many dB nearer to the truth the clipped samples have come."""
    return float(10 * np.log10(np.square(truth - before)[mask].sum() / (np.square(truth - after)[mask].sum() + 1e-20)))


def run(files: list[Path]) -> None:
    """Measure and print."""
    gains: dict = defaultdict(list)
    costs: dict = defaultdict(list)
    for file in files:
        sound, rate = clean(file)
        truth = loudest(sound, rate)
        for level in _LEVELS:
            wave, rail = clip_to_sdr(truth, level)
            mask = np.abs(wave) >= rail
            row: list[float] = []
            group = "speech" if is_speech(file) else "music"
            for name, rebuild in _METHODS.items():
                began = time.process_time()
                rebuilt = rebuild(wave, mask, rate)
                costs[name, level].append((time.process_time() - began) / (len(wave) / rate))
                row.append(gain_db(truth, wave, rebuilt, mask))
                gains[group, name, level].append(row[-1])
            best = max(gains[group, name, level][-1] for name in _REFERENCES)
            gains[group, "best", level].append(best)
            gains[group, "auto over best", level].append(row[-1] - best)
            print(
                f"{file.stem:24} {level:3} dB  "
                + "  ".join(f"{n} {g:5.1f}" for n, g in zip(_METHODS, row, strict=True)),
                flush=True,
            )
    print(f"\nmean gain in dB at input ratios of {', '.join(map(str, _LEVELS))} dB")
    for kind in ("speech", "music"):
        for name in [*_METHODS, "best", "auto over best"]:
            cells = [np.mean(gains[kind, name, level]) for level in _LEVELS if gains[kind, name, level]]
            if cells:
                print(f"{kind:7} {name:15}" + " ".join(f"{cell:6.1f}" for cell in cells))
    print("\nseconds of one core for a second of sound")
    for name in _METHODS:
        print(f"{name:11}" + " ".join(f"{np.mean(costs[name, level]):6.2f}" for level in _LEVELS))
