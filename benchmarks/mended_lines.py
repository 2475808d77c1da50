"""Voices over coders that lost packets, mended as a default mend does: by how much PESQ rises against no losses at all.

Only what the survey found is mended, and only where a mend is advised. Needs the package ``pesq``, which nothing else
does. Every second voice of the corpus is measured.
"""

from __future__ import annotations

from collections import defaultdict

import numpy as np
import soxr

from benchmarks.corpus import as_a_file, is_speech
from benchmarks.lines import found_in, lines
from umbrick.core.mend.plan import carried_out, planned
from umbrick.core.timeline.version import Version

_SURE_ENOUGH = 0.75
_RATE = 8000


def run(files) -> None:
    """Measure and print."""
    try:
        from pesq import pesq
    except ImportError:
        print("left out: the package pesq is not installed")
        return

    def quality(line, wave):
        whole, heard = (soxr.resample(one, line.rate, _RATE).astype(np.float32) for one in (line.whole, wave))
        length = min(len(whole), len(heard))
        return pesq(_RATE, whole[:length], heard[:length], "nb")

    voices = [path for path in files if is_speech(path)][::2]
    rises: dict[str, list[float]] = defaultdict(list)
    before = []
    for path, name, kind, line in lines(voices):
        source = as_a_file(line.lossy[:, np.newaxis], line.rate, 16)
        version = Version.of(source)
        found = [finding for finding in found_in(line.lossy, line.rate, _SURE_ENOUGH) if finding.kind == "dropout"]
        plan = planned(found, version)
        mended = carried_out(version, plan, found).mended if plan else None
        if mended is None:
            continue
        was = quality(line, line.lossy)
        rise = quality(line, mended.version.read(0, mended.version.frames)[:, 0]) - was
        before.append(was)
        rises[kind].append(rise)
        rises[name].append(rise)
        if rise < -0.05:
            print(
                f"{path.stem}, {name}, {kind}: {was:.2f} falls by {-rise:.2f} ({len(mended.mends)} mends)", flush=True
            )
    for name, some in rises.items():
        print(f"{name:28} {len(some):3}: {np.mean(some):+.2f} in the mean, {min(some):+.2f} to {max(some):+.2f}")
    print(f"before {np.mean(before):.2f} in the mean")
