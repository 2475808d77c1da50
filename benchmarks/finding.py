"""Planted faults of every kind: precision, recall, F1, timing; and false alarms on clean sound.

Targets at the default sensitivity: F1 0.97 for clipping, dropout, spike, repeat, dc_offset and hum; click 0.95 on
speech and tonal music, 0.85 on percussive; 0.85 for the others. On clean sound at most one finding a minute over all
kinds, none above 0.9 confidence. ``UMBRICK_BENCH_KINDS`` names what to plant (all by default).
"""

from __future__ import annotations

import os
from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.conditions import CONDITIONS
from benchmarks.corpus import as_a_file, at_speed, clean, group_of, is_speech
from benchmarks.plant import FOR_VOICE, PLANTERS
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor

_TOLERANCE_SECONDS = 0.015
_FAR_TOLERANCE_SECONDS = {
    "level_step": 2.0,
    "peak": 0.15,
    "plosive": 0.05,
    "sibilance": 0.05,
    "crackle": 0.1,
    "intrusion": 0.1,
}
_CUT = 0.5
_ROUNDS, _ROUNDS_OF_ONE = 3, 12
"""How often each recording is planted with each kind; more often with those of which it has but one or two."""

_ONE_EACH = ("peak", "level_step", "hum", "hiss", "dc_offset", "hard_edge")

_SPEEDS = (0.88, 0.94, 1.06, 1.12, 1.2)
"""Clean sound is surveyed at these speeds too."""


def survey(sound, rate, bits=24):
    """Return every finding measured in a sound, as a file of so many bits has it, by kind."""
    result = Surveyor(as_a_file(sound, rate, bits), bits, list(KINDS.values())).run()
    found = {name: [] for name in KINDS}
    for finding in result.table.findings:
        found[finding.kind].append(finding)
    return found


def matched(findings, truth, tolerance):
    """Return for each planted fault the finding that meets it best, or None, and the findings that met none.

    Best is what is found at the default sensitivity, and of that what begins nearest.
    """
    met, used = [], set()
    for fault in truth:
        best = None
        for index, finding in enumerate(findings):
            if finding.start < fault.stop + tolerance and finding.stop > fault.start - tolerance:
                used.add(index)
                if best is None or _worth(finding, fault) > _worth(best, fault):
                    best = finding
        met.append(best)
    return met, [finding for index, finding in enumerate(findings) if index not in used]


def _worth(finding, fault):
    return min(finding.confidence, _CUT), -abs(finding.start - fault.start), finding.confidence


def _f1(hits, missed, wrong):
    return 2 * hits / max(1, 2 * hits + missed + wrong)


def run(files: list[Path]) -> None:
    """Measure and print."""
    chosen = os.environ.get("UMBRICK_BENCH_KINDS", ",".join(PLANTERS)).split(",")
    _clean(files)
    print(f"\n{'planted':14} {'group':10} planted recall precision    F1   best F1 at   start/end off (median ms)")
    for name in chosen:
        kind, plant = PLANTERS[name]
        groups: dict[str, list] = {}
        for file in files:
            if name in FOR_VOICE and not is_speech(file):
                continue
            sound, rate = clean(file)
            tolerance = round(_FAR_TOLERANCE_SECONDS.get(kind, _TOLERANCE_SECONDS) * rate)
            group = group_of(file)
            for number in range(_ROUNDS_OF_ONE if name in _ONE_EACH else _ROUNDS):
                random = np.random.default_rng(crc32(f"{name} {file.stem}{f' {number}' * (number > 0)}".encode()))
                planted, truth = plant(sound, rate, random)
                met, wrong = matched(survey(planted, rate)[kind], truth, tolerance)
                groups.setdefault(group, []).append((rate, truth, met, wrong))
                if os.environ.get("UMBRICK_BENCH_FILES"):
                    hits = sum(f is not None and f.confidence >= _CUT for f in met)
                    false = sum(f.confidence >= _CUT for f in wrong)
                    print(f"    {file.stem:28} {hits:3} of {len(truth):3}, wrong {false}")
        for group, results in groups.items():
            print(f"{name:14} {group:10} {_summary(results)}")


def _summary(results):
    hits_at = np.array([f.confidence if f else 0.0 for *_, met, _ in results for f in met])
    wrong_at = np.array([f.confidence for *_, wrong in results for f in wrong])

    def at(cut):
        hits = int((hits_at >= cut).sum())
        return hits, len(hits_at) - hits, int((wrong_at >= cut).sum())

    hits, missed, wrong = at(_CUT)
    best = max((_f1(*at(cut)), cut) for cut in np.arange(0.05, 1.0, 0.05))
    offs = np.array(
        [
            (1e3 * abs(f.start - t.start) / rate, 1e3 * abs(f.stop - t.stop) / rate)
            for rate, truth, met, _ in results
            for f, t in zip(met, truth, strict=True)
            if f is not None and f.confidence >= _CUT
        ]
    ).reshape(-1, 2)
    off = "/".join(f"{value:.2f}" for value in np.median(offs, axis=0)) if len(offs) else "–"
    precision = hits / max(1, hits + wrong)
    return (
        f"{len(hits_at):7} {hits / max(1, len(hits_at)):6.3f} {precision:9.3f} {_f1(hits, missed, wrong):6.3f}"
        f"  {best[0]:6.3f} {best[1]:.2f}   {off}"
    )


def _clean(files):
    """Print what is found in clean sound, as it is, at other speeds and in other conditions."""
    seconds, total, sure = 0.0, 0, 0
    sounds = [clean(file) for file in files]
    for file, (sound, rate) in zip(files, sounds, strict=True):
        seconds += len(sound) / rate
        here = []
        for kind, findings in survey(sound, rate).items():
            passing = [f for f in findings if f.confidence >= _CUT]
            total += len(passing)
            sure += sum(f.confidence > 0.9 for f in passing)
            if passing:
                here.append(f"{kind} {len(passing)} (≤ {max(f.confidence for f in passing):.2f})")
        print(f"{file.stem:28} {len(sound) / rate:5.0f} s clean: {', '.join(here) or 'nothing'}")
    print(
        f"clean sound: {total} findings in {seconds / 60:.1f} min, {60 * total / seconds:.2f} a minute; "
        f"{sure} above 0.9"
    )
    _tell(
        f"at {len(_SPEEDS)} other speeds",
        ((at_speed(sound, rate, speed), rate, 24) for sound, rate in sounds for speed in _SPEEDS),
    )
    for name, condition in CONDITIONS.items():
        _tell(name, (condition(sound, rate) for sound, rate in sounds))


def _tell(condition, sounds):
    """Print how many findings a minute sounds have that are clean but for the condition they are in."""
    minutes, counts = 0.0, dict.fromkeys(KINDS, 0)
    for sound, rate, bits in sounds:
        minutes += len(sound) / rate / 60
        for kind, findings in survey(sound, rate, bits).items():
            counts[kind] += sum(f.confidence >= _CUT for f in findings)
    told = ", ".join(f"{kind} {count / minutes:.2f}" for kind, count in counts.items() if count)
    print(f"{condition}, {minutes:.1f} min: {sum(counts.values()) / minutes:.2f} a minute ({told})", flush=True)
