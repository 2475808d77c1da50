"""The weights of ``impulse_sorting``, ``intrusion`` and ``rests``, fitted anew, and what they do to unknown recordings.

Faults are planted in clean sound at many speeds, impulses at many rates too. What the clean sound has is natural,
anything else is what was planted there. The demo's recordings are always among those that are fitted. It takes some ten
minutes on two cores.
"""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from benchmarks import fitting_holes, fitting_impulses, fitting_lines
from benchmarks.regression import fit_and_tell
from umbrick.demo import recordings

_NATURAL_IMPULSE, _NATURAL_NARROW_IMPULSE, _NATURAL_LINE, _REST = 8.0, 16.0, 8.0, 1.0
"""How much natural sound counts: real recordings hold far more of it than of damage, and a false finding is worse than
one that is missed. In a telephone's band more of it looks like damage."""


def run(files: list[Path]) -> None:
    """Fit and print."""
    files = list(dict.fromkeys([*files, *(file for file in recordings() if file.suffix in (".wav", ".flac"))]))
    with ProcessPoolExecutor() as pool:
        holes = [one for kept in pool.map(fitting_holes.collected, files) for one in kept]
        holes += fitting_holes.collected_unusual(files)
        weights = fit_and_tell("holes", holes, fitting_holes.LABELS, _REST, pool)
        _tell(holes[0].columns, weights)
        lines = [one for kept in pool.map(fitting_lines.collected, files) for one in kept]
        weights = fit_and_tell("lines", lines, fitting_lines.LABELS, _NATURAL_LINE, pool)
        _tell(lines[0].columns, weights)
        collected = list(pool.map(fitting_impulses.collected, files))
        full, narrow = ([one for kept in collected for one in kept[band]] for band in (0, 1))
        labels = fitting_impulses.LABELS
        weights = fit_and_tell("impulses at a full band", full, labels, _NATURAL_IMPULSE, pool)
        narrow_weights = fit_and_tell("at a telephone's", narrow, labels, _NATURAL_NARROW_IMPULSE, pool)
        _tell(full[0].columns, np.hstack([weights, narrow_weights]))


def _tell(names, weights):
    for name, row in zip(names, weights, strict=True):
        numbers = ", ".join(f"{weight:.3g}" for weight in row)
        print(f'    "{name}": {f"({numbers})" if len(row) > 1 else numbers},')
