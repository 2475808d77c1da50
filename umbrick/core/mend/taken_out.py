"""Whether what a mend takes out is the sound itself: rain, clapping and gravel are made of clicks."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from umbrick.core.mend.applying import Mended
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version

_FEWEST, _FEWEST_A_MINUTE = 20, 60.0
_MOST_EXCESS_DB = 16.0
"""Of damage most stands out by more; of sound that is made of impulses most stands out a little."""

_MOST_TAKEN_DB = -14.0
_BLOCK_FRAMES = 1 << 18


def is_the_sound_itself(version: Version, mended: Mended, findings: Sequence[Finding]) -> bool:
    """Whether mends of many clicks, most of them faint, take out a good part of all there is.

    Parameters
    ----------
    version : Version
        Before the mends, which do not change its length.
    mended : Mended
    findings : sequence of Finding
        What was mended.
    """
    if not are_many_and_faint(findings, version):
        return False
    taken = sum(
        float(np.square(version.read(mend.start, mend.stop) - mended.version.read(mend.start, mend.stop)).sum())
        for mend in mended.mends
    )
    total = sum(
        float(np.square(version.read(start, min(start + _BLOCK_FRAMES, version.frames)), dtype=np.float64).sum())
        for start in range(0, version.frames, _BLOCK_FRAMES)
    )
    return taken > total * 10 ** (_MOST_TAKEN_DB / 10)


def are_many_and_faint(findings: Sequence[Finding], version: Version) -> bool:
    """Whether so many clicks are found, most of them faint, that a sound may be made of them."""
    excess_db = [float(finding.detail["excess_db"]) for finding in findings if "excess_db" in finding.detail]
    minutes = version.frames / version.rate / 60
    are_many = len(excess_db) >= max(_FEWEST, _FEWEST_A_MINUTE * minutes)
    return are_many and bool(np.median(excess_db) <= _MOST_EXCESS_DB)
