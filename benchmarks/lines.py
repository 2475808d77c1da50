"""Voices over real coders that lost packets: what of the losses is found, and what is listed where none was lost.

Recordings go over each coder that this system has (see ``speech_coders``), once without losses, once with single
packets lost, once with bursts of 40 to 200 ms. Music goes over the coders that are meant for it. Counted are losses
that are heard.
"""

from __future__ import annotations

from collections import defaultdict
from zlib import crc32

import numpy as np

from benchmarks.corpus import as_a_file, clean, is_speech
from benchmarks.packet_loss import bursts, over_a_line, single_losses
from benchmarks.speech_coders import coders
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor

_KINDS = ("dropout", "stutter", "discontinuity")
_FOR_MUSIC = ("sound", "low delay")


def lines(files, kinds=("single", "burst")):
    """Yield for every recording, coder and kind of loss the names and the :class:`Line`."""
    for path in files:
        sound, rate = clean(path)
        for name, coder in coders():
            is_wide = coder.rate > rate
            if is_wide or not (is_speech(path) or any(word in name for word in _FOR_MUSIC)):
                continue
            packets, seconds = int(len(sound) / rate * coder.rate / coder.packet), coder.packet / coder.rate
            for kind in kinds:
                random = np.random.default_rng(crc32(f"{path.stem} {name} {kind}".encode()))
                lost = (single_losses if kind == "single" else bursts)(random, packets, seconds)
                yield path, name, kind, over_a_line(sound.mean(axis=1), rate, coder, lost)


def found_in(wave, rate, least=0.5):
    """Return the findings of a line's faults."""
    source = as_a_file(wave[:, np.newaxis], rate, 16)
    return [
        finding
        for finding in Surveyor(source, 16, [KINDS[kind] for kind in _KINDS]).run().table.findings
        if finding.confidence >= least and not finding.detail.get("restart")
    ]


def run(files) -> None:
    """Print recall for each coder, and false findings a minute with and without losses."""
    heard, false, minutes = defaultdict(list), defaultdict(list), defaultdict(float)
    for path, name, kind, line in lines(files):
        findings = found_in(line.lossy, line.rate)
        slack = round(0.03 * line.rate)
        for loss in line.losses:
            if loss.is_audible:
                heard[name, kind].append(any(f.start < loss.stop and f.stop > loss.start for f in findings))
        where = "with losses"
        false[where] += [
            f
            for f in findings
            if not any(f.start < x.stop + 6 * slack and f.stop > x.start - slack for x in line.losses)
        ]
        minutes[where] += len(line.lossy) / line.rate / 60
        if kind == "single":
            where = "without losses, voices" if is_speech(path) else "without losses, music"
            false[where] += found_in(line.whole, line.rate)
            minutes[where] += len(line.whole) / line.rate / 60
    for (name, kind), hits in sorted(heard.items()):
        print(f"{name:28s} {kind:6s} {np.mean(hits):4.2f} of {len(hits)}")
    for kind in ("single", "burst"):
        hits = [hit for (_, other), some in heard.items() if other == kind for hit in some]
        print(f"all {kind}: {np.mean(hits):4.2f} of {len(hits)}")
    for where, findings in false.items():
        kinds = ", ".join(f"{kind} {sum(f.kind == kind for f in findings) / minutes[where]:.2f}" for kind in _KINDS)
        sure = sum(f.confidence >= 0.75 for f in findings) / minutes[where]
        print(f"false a minute {where}: {len(findings) / minutes[where]:.2f} ({sure:.2f} surer than 0.75): {kinds}")
