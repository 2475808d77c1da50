"""Where a place in one version is in another."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.timeline.runs import NO_ORIGIN, Integers
from umbrick.core.timeline.version import Version


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
    return int(map_positions(origin_version, target, [position])[0])


def map_positions(origin_version: Version, target: Version, positions: npt.ArrayLike) -> Integers:
    """Return :func:`map_position` of many positions at once: O(pieces + positions · log pieces)."""
    wanted = np.asarray(positions, np.int64)
    if len(wanted) and not (wanted.min() >= 0 and wanted.max() <= origin_version.frames):
        raise IndexError(f"positions {wanted.min()}..{wanted.max()} outside 0..{origin_version.frames}")
    if origin_version is target:
        return wanted
    mapped = _from_origin(target, _to_origin(origin_version, wanted))
    mapped[wanted == origin_version.frames] = target.frames
    mapped[wanted == 0] = 0
    return mapped


def map_spans(origin_version: Version, target: Version, spans: npt.ArrayLike) -> list[tuple[int, int]]:
    """Return :func:`map_position` of both ends of spans, which may be empty ones."""
    ends = np.asarray(spans, np.int64).reshape(-1)
    places = map_positions(origin_version, target, ends).tolist()
    return list(zip(places[::2], places[1::2], strict=True))


def place_of_origin(version: Version, origin: int) -> int:
    """Return where a frame of the original stands in a version, or would: after the nearest one before it."""
    return int(_from_origin(version, np.array([origin], np.int64))[0])


def origin_of_place(version: Version, position: int) -> int:
    """Return the frame of the original that stands at a position, or that would: the inverse of the above."""
    return int(_to_origin(version, np.array([position], np.int64))[0])


def _to_origin(version: Version, positions: Integers) -> Integers:
    """Return the original's frames that the frames at ``positions`` stand for, or follow if they stand for none."""
    count = len(version.origins)
    if not count:
        return np.zeros_like(positions)
    index = np.searchsorted(version.bounds, positions, side="right") - 1
    inside = np.minimum(index, count - 1)
    present = version.origins != NO_ORIGIN
    # The nearest piece at or before each that stands for something; −1 where there is none.
    latest = np.maximum.accumulate(np.where(present, np.arange(count), -1))[inside]
    within = np.minimum(positions, version.bounds[latest + 1]) - version.bounds[latest]
    return np.where(latest >= 0, version.origins[latest] + within, 0)


def _from_origin(version: Version, origins: Integers) -> Integers:
    starts, stops, positions = _origin_runs(version)
    if not len(starts):
        return np.zeros_like(origins)
    index = np.searchsorted(starts, origins, side="right") - 1
    run = np.maximum(index, 0)
    return np.where(index >= 0, positions[run] + np.minimum(origins, stops[run]) - starts[run], 0)


def _origin_runs(version: Version) -> tuple[Integers, Integers, Integers]:
    """Return the runs of original frames present in a version, by origin: starts, stops, positions."""
    present = np.flatnonzero(version.origins != NO_ORIGIN)
    order = present[np.argsort(version.origins[present], kind="stable")]
    starts = version.origins[order]
    return starts, starts + np.diff(version.bounds)[order], version.bounds[order]
