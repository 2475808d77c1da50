"""Where the frames of a version come from."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import Source
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.runs import NO_ORIGIN, Integers
from umbrick.core.timeline.version import Version

NATURES = tuple(Nature)
_CODE = {nature: code for code, nature in enumerate(NATURES)}


class Provenance(NamedTuple):
    """The pieces of a span of a version: their bounds, what each is, and where something of the original is missing.

    ``natures`` holds indices into ``NATURES``; ``donors`` the original's frame that a grafted or moved piece begins
    with, or −1; ``deleted`` ascending positions before which frames of the original were taken out.
    """

    bounds: Integers
    natures: npt.NDArray[np.int8]
    donors: Integers
    deleted: Integers

    def spans(self, nature: Nature) -> Integers:
        """Return the spans of one nature, shape ``(n, 2)``."""
        rows = np.flatnonzero(self.natures == _CODE[nature])
        return np.stack([self.bounds[rows], self.bounds[rows + 1]], axis=1)


def provenance(version: Version, original: Version, start: int = 0, stop: int | None = None) -> Provenance:
    """Return where the frames of a span of ``version`` (all of it by default) come from.

    Frames of the recording are ``original`` where they stand for themselves, ``grafted`` where they stand for others,
    and ``moved`` where they stand for none; frames of patches are what the method that made them says.
    """
    stop = version.frames if stop is None else stop
    run = version.cut([start], [stop])
    recording = version.source_numbers.get(id(original.sources[0]), -1)
    is_own = run.index == recording
    natures = version.per_source(_nature)[run.index].astype(np.int8)
    donors = version.per_source(_donor)[run.index]
    natures[is_own] = _CODE[Nature.ORIGINAL]
    natures[is_own & (run.origins != run.starts)] = _CODE[Nature.GRAFTED]
    natures[is_own & (run.origins == NO_ORIGIN)] = _CODE[Nature.MOVED]
    donors[is_own & (run.origins != run.starts)] = run.starts[is_own & (run.origins != run.starts)]
    bounds = start + np.concatenate([[0], np.cumsum(run.lengths)]).astype(np.int64)
    return Provenance(bounds, natures, donors, _deleted(run.origins, run.lengths, bounds, version, original))


def rebuilt_spans(
    version: Version, original: Version, start: int = 0, stop: int | None = None
) -> list[tuple[int, int]]:
    """Return the parts of a span of ``version`` (all of it by default) that are not the original's own frames."""
    found = provenance(version, original, start, stop)
    changed = np.flatnonzero(found.natures != _CODE[Nature.ORIGINAL])
    if not len(changed):
        return []
    heads = changed[np.diff(changed, prepend=-2) > 1]
    tails = changed[np.diff(changed, append=len(found.natures) + 1) > 1]
    return list(zip(found.bounds[heads].tolist(), found.bounds[tails + 1].tolist(), strict=True))


def provenance_shares(version: Version, original: Version) -> dict[str, float]:
    """Return the share of the version's frames of each nature, in percent, and ``deleted``.

    The natures add up to 100 (an empty version counts as original); ``deleted`` is the share of the original's frames
    that stand nowhere in the version, nor anything in their place.
    """
    found = provenance(version, original)
    frames = np.bincount(found.natures, weights=np.diff(found.bounds), minlength=len(NATURES))
    if not version.frames:
        frames[_CODE[Nature.ORIGINAL]] = 1
    shares = {nature.value: 100.0 * float(frames[code] / frames.sum()) for nature, code in _CODE.items()}
    shares["deleted"] = 100.0 * (1 - _present(version) / original.frames) if original.frames else 0.0
    return shares


def _nature(source: Source) -> int:
    return _CODE[getattr(source, "nature", Nature.REBUILT)]


def _donor(source: Source) -> int:
    donor: int | None = getattr(source, "donor", None)
    return -1 if donor is None else donor


def _present(version: Version) -> int:
    """Return how many frames of the original stand somewhere in a version, themselves or as what replaced them."""
    rows = version.origins != NO_ORIGIN
    starts, lengths = version.origins[rows], np.diff(version.bounds)[rows]
    order = np.argsort(starts, kind="stable")
    starts, stops = starts[order], (starts + lengths)[order]
    if not len(starts):
        return 0
    covered = np.concatenate([[0], np.maximum.accumulate(stops)[:-1]])
    return int(np.maximum(0, stops - np.maximum(starts, covered)).sum())


def _deleted(origins: Integers, lengths: Integers, bounds: Integers, version: Version, original: Version) -> Integers:
    """Return where the original's order skips frames from one piece to the next."""
    known = np.flatnonzero(origins != NO_ORIGIN)
    places = []
    if len(known):
        skips = origins[known[1:]] > (origins + lengths)[known[:-1]]
        places = bounds[known[1:]][skips].tolist()
        if bounds[0] == 0 and origins[known[0]] > 0:
            places.insert(0, 0)
        if bounds[-1] == version.frames and origins[known[-1]] + lengths[known[-1]] < original.frames:
            places.append(version.frames)
    elif original.frames and bounds[0] == 0 and bounds[-1] == version.frames:
        places = [0]
    return np.array(places, np.int64)
