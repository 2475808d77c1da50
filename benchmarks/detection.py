"""Planted clipping: recall and precision of clipped samples; findings on clean sound.

Targets: both at least 0.98 at rails from −0.1 to −12 dBFS, one-sided too; no findings on clean sound.
"""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import soundfile
import soxr

from benchmarks.corpus import clean
from benchmarks.planting import clip_at
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.detector import Format
from umbrick.core.survey.kinds.clipping import ClippingDetector
from umbrick.core.survey.streaming import blocks

_RAILS = (-0.1, -3.0, -12.0)
_SHARES = (0.0003, 0.003, 0.03)


def _coded(container, subtype):
    def roughen(sound, rate):
        memory = io.BytesIO()
        with soundfile.SoundFile(memory, "w", rate, sound.shape[1], subtype, format=container) as file:
            for start in range(0, len(sound), 2**16):  # the Vorbis encoder crashes on minutes at once
                file.write(sound[start : start + 2**16])
        memory.seek(0)
        return soundfile.read(memory, always_2d=True)[0]

    return roughen


_ROUGHENED = {
    "resampled": lambda sound, rate: soxr.resample(sound, rate, 0.91875 * rate),
    "Vorbis": _coded("OGG", "VORBIS"),
    "MP3": _coded("MP3", "MPEG_LAYER_III"),
}


def _found(sound, rate):
    rounded = np.round(sound * 2**23) / 2**23
    detector = ClippingDetector(Format(rate, sound.shape[1], 2.0**-23))
    for block in blocks(ArraySource(rounded, rate, "s")):
        detector.feed(block)
    mask = np.zeros(sound.shape, bool)
    findings = [finding for finding in detector.findings() if finding.confidence >= 0.5]
    for finding in findings:
        mask[finding.start : finding.stop, list(finding.channels)] = True
    return mask, len(findings)


def run(files: list[Path]) -> None:
    """Measure and print."""
    totals = np.zeros(3)
    for file in files:
        sound, rate = clean(file)
        cells = []
        for sides in ("both", "upper"):
            for share in _SHARES:
                counts = np.zeros(3)
                for rail in _RAILS:
                    planted, truth = clip_at(sound, rail, share, sides)
                    found, _ = _found(planted, rate)
                    counts += [np.count_nonzero(found & truth), np.count_nonzero(truth), np.count_nonzero(found)]
                totals += counts
                cells.append(f"{counts[0] / counts[1]:.3f}/{counts[0] / max(1, counts[2]):.3f}")
        print(f"{file.stem:24} clean findings {_found(sound, rate)[1]:3}   both {cells[:3]}   upper {cells[3:]}")
    print(f"all: recall {totals[0] / totals[1]:.4f}, precision {totals[0] / totals[2]:.4f}")
    print("\nflat tops roughened afterwards: findings in clean / clipped sound (2 % of samples at -0.3 dBFS)")
    for file in files:
        sound, rate = clean(file)
        planted, _ = clip_at(sound, -0.3, 0.02)
        cells = []
        for name, roughen in _ROUGHENED.items():
            counts = (_found(roughen(part, rate), rate)[1] for part in (sound, planted))
            cells.append(f"{name} " + " / ".join(f"{count:5}" for count in counts))
        print(f"{file.stem:24} " + "   ".join(cells))
