"""Blanks that were put in, and sound that is lost: what the survey finds of both, and what a default mend does.

20 holes of 5 to 150 ms in each recording. A blank that was put in should be closed up, lost sound filled.
"""

from __future__ import annotations

from zlib import crc32

import numpy as np

from benchmarks.corpus import as_a_file, clean, group_of
from benchmarks.plant import places
from umbrick.core.mend.remedies import first_remedy
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

_HOLES = 20


def holed(sound, rate, random, is_inserted):
    """Return a sound with holes, put in or in place of what was there, and their spans."""
    parts, truth, last, made = [], [], 0, 0
    for at in places(sound, rate, random, _HOLES, round(0.2 * rate), 15):
        length = round(rate * 10 ** random.uniform(np.log10(0.005), np.log10(0.15)))
        parts += [sound[last:at], np.zeros((length, sound.shape[1]))]
        made += at - last
        truth.append((made, made + length))
        made += length
        last = at if is_inserted else at + length
    return np.concatenate([*parts, sound[last:]]), truth


def run(files) -> None:
    """Print for each group of recordings how many holes are found, and how many of those are closed up."""
    counts = {}
    for path in files:
        sound, rate = clean(path)
        for is_inserted in (True, False):
            random = np.random.default_rng(crc32(path.stem.encode()))
            holes, truth = holed(sound, rate, random, is_inserted)
            source = as_a_file(holes, rate)
            version = Version.of(source)
            findings = Surveyor(source, 24, [KINDS["dropout"]]).run().sifted({})
            row = counts.setdefault((group_of(path), is_inserted), [0, 0, 0])
            for start, stop in truth:
                found = [finding for finding in findings if finding.start < stop and finding.stop > start]
                row[0] += 1
                row[1] += bool(found)
                row[2] += any(first_remedy(finding, version).title == "Close up" for finding in found)
    for (group, is_inserted), (planted, found, closed) in sorted(counts.items()):
        print(f"{group:11s} {'put in' if is_inserted else 'lost':7s} {planted:4d}: {found} found, {closed} closed up")
