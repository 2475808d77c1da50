"""Where two versions differ."""

from __future__ import annotations

import numpy as np

from umbrick.core.timeline.runs import Integers
from umbrick.core.timeline.version import Version, source_digest

_ODD = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0x27D4EB2F165667C5], np.uint64)


def changed_spans(one: Version, other: Version) -> Integers | None:
    """Return spans outside which two versions of the same length have the same frames: shape ``(n, 2)``, ascending.

    None if their lengths differ: what follows has moved then. It compares pieces, not samples: O(pieces).
    """
    if one.frames != other.frames:
        return None
    names = _names(one), _names(other)
    spans = [
        np.stack([version.bounds[:-1], version.bounds[1:]], axis=1)[~np.isin(own, its)]
        for version, own, its in ((one, *names), (other, *names[::-1]))
    ]
    both = np.concatenate(spans)
    return both[np.argsort(both[:, 0], kind="stable")]


def _names(version: Version) -> Integers:
    """Return a number for each piece that tells its frames and its place."""
    digests = version.per_source(source_digest)[version.source_index]
    columns = (digests, version.starts, version.bounds[:-1], version.bounds[1:])
    mixed = np.zeros(len(digests), np.uint64)
    for column, odd in zip(columns, _ODD, strict=True):
        mixed = (mixed ^ column.astype(np.uint64)) * odd
        mixed ^= mixed >> np.uint64(29)
    return mixed.view(np.int64)
