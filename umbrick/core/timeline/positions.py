"""Where a place in one version is in another."""

from __future__ import annotations

import numpy as np

from umbrick.core.timeline.version import NO_ORIGIN, Integers, Version


def map_position(origin_version: Version, target: Version, position: int) -> int:
    """Return the position in ``target`` of the place at ``position`` in ``origin_version``.

    Both must descend from one original. A position is the gap before a frame, from 0 to the version's length, so
    the two ends map to the two ends. A place whose sound does not exist in the target (it was inserted, or is
    deleted there) maps to where it would be: after the nearest sound before it that does exist there.

    Raises
    ------
    IndexError
        If the position lies outside the version.
    """
    if not 0 <= position <= origin_version.frames:
        raise IndexError(f"position {position} outside 0..{origin_version.frames}")
    if origin_version is target:
        return position
    if position == 0:
        return 0
    if position == origin_version.frames:
        return target.frames
    return _from_origin(target, _to_origin(origin_version, position))


def _to_origin(version: Version, position: int) -> int:
    """Return the original's frame that the frame at ``position`` stands for, or follows if it stands for none."""
    index = int(np.searchsorted(version.bounds, position, side="right")) - 1
    origin = int(version.origins[index])
    if origin != NO_ORIGIN:
        return origin + position - int(version.bounds[index])
    while index > 0:
        index -= 1
        if version.origins[index] != NO_ORIGIN:
            return int(version.origins[index] + version.bounds[index + 1] - version.bounds[index])
    return 0


def _from_origin(version: Version, origin: int) -> int:
    starts, stops, positions = _origin_runs(version)
    index = int(np.searchsorted(starts, origin, side="right")) - 1
    if index < 0:
        return 0
    return int(positions[index] + min(origin, int(stops[index])) - starts[index])


def _origin_runs(version: Version) -> tuple[Integers, Integers, Integers]:
    """Return the runs of original frames present in a version, by origin: starts, stops, positions."""
    present = np.flatnonzero(version.origins != NO_ORIGIN)
    order = present[np.argsort(version.origins[present], kind="stable")]
    starts = version.origins[order]
    return starts, starts + np.diff(version.bounds)[order], version.bounds[order]
