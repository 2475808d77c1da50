"""Making the samples of a patch: read block by block, only the chosen channels touched, every other bit kept."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.place import Place
from umbrick.core.timeline.patch import Nature, Patch, PatchSource
from umbrick.core.timeline.runs import Piece
from umbrick.core.timeline.version import Version

Wave = npt.NDArray[np.float64]

_BLOCK_FRAMES = 1 << 16
_MOST_SAMPLES = 1 << 28
"""Samples that are made at once; they are in memory until they are in the casebook."""


def remade(
    version: Version,
    place: Place,
    make: Callable[[Wave, int], Wave],
    nature: Nature,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> tuple[Piece, ...]:
    """Return pieces for a place in which every sample of its channels was made anew.

    Parameters
    ----------
    version : Version
    place : Place
    make : callable
        Given sound of shape ``(frames, channels of the place)`` and the frame it begins with, returns what it becomes.
    nature : Nature
        What is done to it.
    is_cancelled : callable
        Asked for every second or so of sound.

    Raises
    ------
    ParameterError
        If the place is too long to be made at once.
    CancelledError
        If ``is_cancelled`` says so.
    """
    frames = place.stop - place.start
    if frames * version.channels > _MOST_SAMPLES:
        raise ParameterError("That is too much sound to change at once.", "Do it in parts of half an hour.")
    samples = np.empty((frames, version.channels), np.float32)
    on = list(place.channels)
    others = np.setdiff1d(np.arange(version.channels), on)
    finer: list[tuple[int, Wave]] = []
    """Blocks of untouched channels that float32 would lose bits of."""
    for at in range(place.start, place.stop, _BLOCK_FRAMES):
        if is_cancelled():
            raise CancelledError
        exact = version.read_exact(at, min(at + _BLOCK_FRAMES, place.stop))
        made = exact.copy()
        made[:, on] = make(exact[:, on], at)
        begin = at - place.start
        samples[begin : begin + len(made)] = made
        if (exact[:, others].astype(np.float32) != exact[:, others]).any():
            finer.append((begin, exact[:, others]))
    if not finer:
        return standing_for(version, place.start, place.stop, Patch(samples, version.rate, nature))
    double = samples.astype(np.float64)
    for begin, exact in finer:
        double[begin : begin + len(exact), others] = exact
    return standing_for(version, place.start, place.stop, Patch(double, version.rate, nature))


def already_made(version: Version, place: Place, sound: Wave, first: int, nature: Nature) -> tuple[Piece, ...]:
    """Return pieces for a place whose channels come from made sound: of all channels, from frame ``first`` on."""

    def taken(present: Wave, at: int) -> Wave:
        return sound[at - first : at - first + len(present)][:, list(place.channels)]

    return remade(version, place, taken, nature)


def standing_for(version: Version, start: int, stop: int, patch: PatchSource, offset: int = 0) -> tuple[Piece, ...]:
    """Return pieces of a patch, from ``offset`` on, that stand for what is in a span of a version."""
    pieces = []
    for piece, at in version.pieces(start, stop):
        pieces.append(Piece(patch, offset + at - start, piece.length, piece.origin))
    return tuple(pieces)


def pieces_of(version: Version, start: int, stop: int) -> tuple[Piece, ...]:
    """Return the pieces that a version has in a span."""
    return tuple(piece for piece, _ in version.pieces(start, stop))
