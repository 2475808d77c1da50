"""Ridges: lines in the spectrum that stand out from what is beside them and go on for a while."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.ndimage import find_objects, label, uniform_filter1d

Floats = npt.NDArray[np.float32]

BESIDE_BINS = 12
_CORE_BINS = 2
_LEAST_DB = 11.0
_WEAK_SHARE = 0.1
_DB_PER_OCTAVE = np.float32(10 * np.log10(2))


class Ridge(NamedTuple):
    """A line: rows ``first`` to ``last`` (half open) of the spectra, its lowest and highest bin, how far it stands over
    what is beside it in dB, its power, and by how many dB its last third is weaker than its first."""

    first: int
    last: int
    lowest: int
    highest: int
    over_db: float
    power: float
    decay_db: float


def tops(power: Floats) -> Floats:
    """Return for each bin how far it stands out, in dB, where it is a top of its row; 0 elsewhere.

    Parameters
    ----------
    power : ndarray, shape (rows, bins)
        Spectra in order.
    """
    levels_db = _DB_PER_OCTAVE * np.log2(np.maximum(power, np.float32(1e-12)))
    wide = uniform_filter1d(levels_db, 2 * BESIDE_BINS + 1, axis=1) * (2 * BESIDE_BINS + 1)
    core = uniform_filter1d(levels_db, 2 * _CORE_BINS + 1, axis=1) * (2 * _CORE_BINS + 1)
    over_db = levels_db - (wide - core) / (2 * (BESIDE_BINS - _CORE_BINS))
    is_top = np.zeros(power.shape, np.bool_)
    is_top[:, 1:-1] = (power[:, 1:-1] >= power[:, :-2]) & (power[:, 1:-1] > power[:, 2:])
    return np.where(is_top & (over_db >= _LEAST_DB), over_db, 0).astype(np.float32)


def ridges(over_db: Floats, power: Floats, shortest: int, since: int = 0) -> list[Ridge]:
    """Return the ridges of tops that go on for at least ``shortest`` rows, gliding by a bin a row at most.

    Those that surely end before row ``since`` are left out.
    """
    is_top = over_db > 0
    thick = is_top.copy()
    thick[:, 1:] |= is_top[:, :-1]
    thick[:, :-1] |= is_top[:, 1:]
    thick[1:-1] |= thick[:-2] & thick[2:]
    labels, count = label(thick)
    # Most patches are small: those that cannot be long enough are left out before each is looked at.
    large = np.bincount(labels.ravel(), minlength=count + 1) >= 2 * shortest
    large[0] = False
    labels = np.where(large, np.cumsum(large), 0)[labels]
    found = []
    for number, box in enumerate(find_objects(labels), 1):
        rows, bins = box
        if rows.stop - rows.start < shortest or rows.stop < since:
            continue
        own = (labels[box] == number) & is_top[box]
        strength = np.where(own, power[box], 0).max(axis=1)
        # A line begins where it is strong: what leads up to it is some other sound's.
        strong = np.flatnonzero(strength > _WEAK_SHARE * _median(strength))
        ends = slice(int(strong[0]), int(strong[-1]) + 1)
        if ends.stop - ends.start < shortest:
            continue
        rows = slice(rows.start + ends.start, rows.start + ends.stop)
        box, own, strength = (rows, bins), own[ends], strength[ends]
        columns = np.nonzero(own)[1]
        third = max(1, len(strength) // 3)
        found.append(
            Ridge(
                rows.start,
                rows.stop,
                bins.start + int(columns.min()),
                bins.start + int(columns.max()),
                float(over_db[box][own].mean()),
                float(power[box][own].mean()),
                float(10 * np.log10((strength[:third].mean() + 1e-12) / (strength[-third:].mean() + 1e-12))),
            )
        )
    return found


def _median(values: Floats) -> float:
    """Return the median of a few values; NumPy's own takes ten times as long for so few."""
    in_order = np.sort(values)
    return float((in_order[(len(values) - 1) // 2] + in_order[len(values) // 2]) / 2)
