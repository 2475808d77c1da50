"""What a survey lists where all was mended: planted faults, each found one mended with its first candidate.

A mend that is listed as a fault again is heard as one. Told are mended places within 20 ms of which something is listed
at the default sensitivity that was not planted. ``UMBRICK_BENCH_KINDS`` names what to plant.
"""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.collapsing import held_longer
from benchmarks.corpus import as_a_file, clean, group_of, is_speech
from benchmarks.finding import survey
from benchmarks.plant import FOR_VOICE, PLANTERS
from umbrick.core.mend.plan import apart, carried_out, planned
from umbrick.core.timeline.version import Version

_PLANTED = ("clipping", "spike", "click", "mouth_click", "dropout", "discontinuity", "repeat", "held", "crackle")
_LISTED = ("clipping", "click", "mouth_click", "crackle", "dropout", "discontinuity", "stutter")
_CUT = 0.5
_NEAR_SECONDS = 0.02


def _mended(version: Version, findings, known) -> tuple[Version, list[int]]:
    """Return a version with all findings mended as *mend all alike* does, and the frames in it at which they lay."""
    plan = planned(apart(findings, version.rate), version)
    done = carried_out(version, plan, known).mended
    if done is None:
        return version, []
    places, moved = [], 0
    for mend in sorted(done.mends, key=lambda mend: mend.start):
        places.append(mend.start + moved)
        moved += mend.time_shift
    return done.version, places


def run(files: list[Path]) -> None:
    """Measure and print."""
    chosen = os.environ.get("UMBRICK_BENCH_KINDS", ",".join(_PLANTED)).split(",")
    for name in chosen:
        kind, plant = ("stutter", held_longer) if name == "held" else PLANTERS[name]
        mended: Counter = Counter()
        listed: dict = defaultdict(Counter)
        for file in files:
            if (name in FOR_VOICE or name == "held") and not is_speech(file):
                continue
            sound, rate = clean(file)
            group = group_of(file)
            planted, _ = plant(sound, rate, np.random.default_rng(crc32(f"again {name} {file.stem}".encode())))
            surveyed = survey(planted, rate)
            known = [finding for findings in surveyed.values() for finding in findings if finding.confidence >= _CUT]
            found = [finding for finding in known if finding.kind == kind]
            version, places = _mended(Version.of(as_a_file(planted, rate)), found, known)
            again = survey(version.read(0, version.frames).astype(np.float64), rate)
            left = [(one, f) for one in _LISTED for f in again[one] if f.confidence >= _CUT]
            near = round(_NEAR_SECONDS * rate)
            for place in places:
                mended[group] += 1
                kinds = {one for one, f in left if f.start - near <= place <= f.stop + near}
                listed[group].update(kinds)
                listed[group]["any"] += bool(kinds)
                if kinds and os.environ.get("UMBRICK_BENCH_FILES"):
                    print(f"    {file.stem:28} {place / rate:8.3f} s: {', '.join(sorted(kinds))}")
        for group, count in mended.items():
            of_kinds = ", ".join(f"{one} {n}" for one, n in listed[group].most_common() if one != "any")
            print(f"{name:14} {group:10} {count:5} mended, {listed[group]['any']:4} listed again  {of_kinds}")
