"""Voice: plosives, sharp consonants and mouth clicks planted in clean speech, each mended by its first candidate.

Targets: in the event's own band within 3 dB of what was there; the rest of its spectrum changed by less than 1 dB;
nothing outside of the mend changed.
"""

from __future__ import annotations

from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import as_a_file, clean, is_speech
from benchmarks.plant import PLANTERS
from umbrick.core.errors import ParameterError
from umbrick.core.mend.plan import applied
from umbrick.core.mend.remedies import first_remedy
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version

_BANDS_HZ = {"plosive": (0, 150, 300), "sibilance": (2500, 24_000, 2000), "mouth_click": (1500, 24_000, 1000)}
"""Where each is, and beyond which frequency lies the rest: above it for plosives, below it for the others."""

_BESIDE_SECONDS = 0.008


def levels_db(wave, rate, kind):
    """Return the level of a stretch in the band of a kind, and in the rest."""
    power = np.abs(np.fft.rfft(wave * np.hanning(len(wave)))) ** 2
    hz = np.fft.rfftfreq(len(wave), 1 / rate)
    low, high, rest = _BANDS_HZ[kind]
    own, other = (hz >= low) & (hz <= high), hz > rest if kind == "plosive" else (hz < rest) & (hz > 60)
    return np.array([10 * np.log10(power[where].sum() + 1e-12) for where in (own, other)])


def run(files: list[Path]) -> None:
    """Measure and print."""
    for kind, (_, plant) in PLANTERS.items():
        if kind not in _BANDS_HZ:
            continue
        planted, left, rest, outside, refused = [], [], [], 0, 0
        for path in filter(is_speech, files):
            sound, rate = clean(path)
            sound = sound.mean(axis=1, keepdims=True)
            wrong, truth = plant(sound, rate, np.random.default_rng(crc32(path.name.encode())))
            version = Version.of(as_a_file(wrong, rate, 32))
            for at in truth:
                finding = Finding("", kind, at.start, at.stop, (0,), 1.0, 1.0, "")
                try:
                    made = applied(version, first_remedy(finding, version), [finding], lambda: False)
                except ParameterError:
                    refused += 1
                    continue
                start, stop = made.mends[0].start, made.mends[-1].stop
                after = made.version.read(0, version.frames)
                before = version.read(0, version.frames)
                outside += bool(np.any(before[:start] != after[:start]) or np.any(before[stop:] != after[stop:]))
                beside = round(_BESIDE_SECONDS * rate)
                around = slice(max(0, at.start - beside), at.stop + beside)
                was, is_now, right = (levels_db(wave[around, 0], rate, kind) for wave in (wrong, after, sound))
                planted.append(was[0] - right[0])
                left.append(is_now[0] - right[0])
                rest.append(is_now[1] - right[1])
        left_db, rest_db = np.array(left), np.array(rest)
        print(
            f"{kind}: {len(left)} planted {np.median(planted):+.1f} dB, left {np.median(left_db):+.1f} dB, no more "
            f"than 3 dB over {np.mean(left_db <= 3):.0%}, under {np.mean(left_db >= -3):.0%}; the rest within 1 dB "
            f"{np.mean(np.abs(rest_db) <= 1):.0%}; changed outside {outside}, refused {refused}"
        )
