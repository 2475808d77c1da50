"""Where to cut: pairs of zero crossings at which what comes in goes on like what went out."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from umbrick.core.measure.crossings import Direction, crossings
from umbrick.core.measure.jumps import Jumps, OwnJumps, SeamReading, band_powers, spectral_distances_db
from umbrick.core.mend.cutting.crossfade import AUTO, chosen_shape, crossfaded
from umbrick.core.sound.source import Source

Wave = npt.NDArray[np.float64]
Integers = npt.NDArray[np.int64]

AUTO_CROSSFADES_MS = (3.0, 8.0, 20.0)
"""Lengths that are tried where none is asked for: the shortest that does as well as the others is best."""

_MOST_CROSSINGS = 48
_GRID_SECONDS = 0.0005
_AS_GOOD = 0.5
"""Costs that are no further apart join about as well."""

_MEASURED = 10
"""Pairs whose spectra are compared, the most promising ones by their waves."""

_CONTEXT_SECONDS = 0.05
_ALIKE_SECONDS = 0.01
"""How much sound on the two sides is compared, before and after the seam."""

_APART_SECONDS = 0.001
_SPECTRAL = 2.0
"""What a jump of the spectrum counts against one of the level."""

_SLIGHT = 0.15
"""What a seam at the edge of the search costs more than one at the selection's own edge, in usual jumps."""


@dataclass(frozen=True, slots=True)
class Seam:
    """A cut from ``out`` to ``into``: the frames between are left out; the crossfade lies round it.

    ``fade`` is the crossfade's length, half before and half after the seam.
    """

    out: int
    into: int
    fade: int
    shape: str
    reading: SeamReading
    cost: float

    @property
    def removed(self) -> int:
        """Frames that go."""
        return self.into - self.out


def joined(source: Source, out: int, into: int, fade: int, shape: str = AUTO) -> Wave:
    """Return the crossfade of a cut, ``fade`` frames that stand for those from ``out − fade // 2`` on.

    It is shorter where the recording begins or ends nearby, and empty if there is nothing on one side.
    """
    before, after = fade_reach(source.frames, out, into, fade)
    outgoing = source.read_exact(out - before, out + after)
    incoming = source.read_exact(into - before, into + after)
    return crossfaded(outgoing, incoming, shape)


def fade_reach(frames: int, out: int, into: int, fade: int) -> tuple[int, int]:
    """Return how far a crossfade reaches before and after a seam, as far as there is sound."""
    before = max(0, min(fade // 2, out, into))
    after = max(0, min(fade - fade // 2, frames - into, frames - out))
    return before, after


def read_seam(
    source: Source, out: int, into: int, fade: int, shape: str = AUTO, own: OwnJumps | None = None
) -> SeamReading:
    """Return how a cut measures, with its crossfade."""
    own = own or OwnJumps(source, min(out, into), max(out, into))
    before, after = fade_reach(source.frames, out, into, fade)
    length = 2 * own.frame
    left = source.read_exact(max(0, out - before - length), out - before)
    right = source.read_exact(into + after, min(source.frames, into + after + length))
    middle = joined(source, out, into, fade, shape)
    return read_joined(
        np.concatenate([left, middle, right]), len(left) + before, len(left), len(left) + len(middle), own
    )


def read_joined(sound: Wave, at: int, start: int, stop: int, own: OwnJumps) -> SeamReading:
    """Return how sound measures that was joined at a frame, and made anew from ``start`` to ``stop`` around it."""
    reading = own.read(sound[:at], sound[at:])
    # What was made has two more places where a slope can break: its ends.
    edges = [own.read(sound[:edge], sound[edge:]) for edge in (start, stop)]
    worst = max([reading, *edges], key=lambda r: r.slope)
    return reading._replace(slope=worst.slope, slope_share=worst.slope_share)


def seams(
    source: Source,
    start: int,
    stop: int,
    channels: Iterable[int] | None = None,
    search: int = 0,
    fades: Sequence[int] = (0,),
    shape: str = AUTO,
    count: int = 5,
) -> list[Seam]:
    """Return the best cuts that take a span out, best first, clearly different from each other.

    Parameters
    ----------
    source : Source
    start, stop : int
        What is to go; all of it goes.
    channels : iterable of int, optional
        Those that decide, by default all. The loudest of them gives the zero crossings.
    search : int
        How many frames more than that and half the crossfade may go on either side. With 0 the cut is just at the
        span's edges, and the crossfade lies round it.
    fades : sequence of int
        Lengths of the crossfade in frames that are tried. Unless the cut is exact, all of it lies outside the span.
    shape : str
        ``auto`` or one of the crossfades' shapes.
    count : int
        At most so many.

    Notes
    -----
    Pairs of crossings in the same direction are compared by how alike the sound is around both, by slope, level and
    spectrum, each in units of what the recording does by itself from frame to frame, and a little by how much more
    than asked for they take out.
    """
    own = OwnJumps(source, start, stop)
    if search <= 0:
        return [measured(source, start, stop, fades[0], shape, own)]
    on = list(channels) if channels is not None else list(range(source.channels))
    context, reach = round(_CONTEXT_SECONDS * source.rate), search + max(fades) // 2
    left_start = max(0, start - reach - context)
    left = source.read(left_start, start).astype(np.float64)[:, on]
    right = source.read(stop, min(source.frames, stop + reach + context)).astype(np.float64)[:, on]
    usual = own.usual
    rough: list[tuple[float, int, int]] = []
    for outs, intos in _crossings(left, right, left_start, start, stop, reach, source.rate):
        costs = _wave_costs(left, right, outs - left_start, intos - stop, source.rate, usual)
        costs += _SLIGHT * ((start - outs)[:, np.newaxis] + (intos - stop)) / reach
        rough += zip(costs.ravel().tolist(), np.repeat(outs, len(intos)).tolist(), intos.tolist() * len(outs),
                     strict=True)  # fmt: skip
    rough.sort()
    found = []
    for fade in fades:
        clear = [pair for pair in rough if start - pair[1] >= fade // 2 and pair[2] - stop >= fade - fade // 2]
        # Those that join best, and of those that join about as well the ones that take out least.
        as_good = [pair for pair in clear if pair[0] <= clear[0][0] + _AS_GOOD]
        least = sorted(as_good, key=lambda pair: pair[2] - pair[1])[:_MEASURED]
        looked_at = dict.fromkeys([*clear[:_MEASURED], *least])
        found += [measured(source, out, into, fade, shape, own, cost) for cost, out, into in looked_at]
    if not found:
        return [measured(source, start, stop, min(fades), shape, own)]
    found.sort(key=lambda seam: (-round(10 * seam.reading.score), seam.removed, seam.fade, seam.cost))
    apart = _APART_SECONDS * source.rate
    chosen: list[Seam] = []
    for seam in found:
        if all(abs(seam.removed - other.removed) >= apart for other in chosen):
            chosen.append(seam)
    return chosen[:count]


def measured(source: Source, out: int, into: int, fade: int, shape: str, own: OwnJumps, cost: float = 0.0) -> Seam:
    """Return a cut with its crossfade, whose shape is chosen if it is ``auto``, and how it measures."""
    before, after = fade_reach(source.frames, out, into, fade)
    outgoing = source.read_exact(out - before, out + after)
    incoming = source.read_exact(into - before, into + after)
    shape = chosen_shape(outgoing, incoming, shape)
    reading = read_seam(source, out, into, fade, shape, own)
    return Seam(out, into, before + after, shape, reading, cost)


def _crossings(
    left: Wave, right: Wave, left_start: int, start: int, stop: int, search: int, rate: int
) -> list[tuple[Integers, Integers]]:
    """Return the crossings on both sides, by direction; a plain grid of places where the wave crosses nowhere."""
    if not len(left) or not len(right):
        return []
    loudest = int(np.argmax((left**2).sum(axis=0) + (right**2).sum(axis=0)))
    found = []
    for direction in (Direction.RISING, Direction.FALLING):
        outs = left_start + crossings(left[:, loudest], direction)
        intos = stop + crossings(right[:, loudest], direction)
        outs, intos = outs[outs >= start - search][-_MOST_CROSSINGS:], intos[intos <= stop + search][:_MOST_CROSSINGS]
        if len(outs) and len(intos):
            found.append((outs, intos))
    if found:
        return found
    step = max(1, round(_GRID_SECONDS * rate))
    outs = np.arange(start, max(left_start, start - search) - 1, -step)
    return [(outs, np.arange(stop, min(stop + len(right), stop + search) + 1, step))]


def _wave_costs(left: Wave, right: Wave, outs: Integers, intos: Integers, rate: int, usual: Jumps) -> Wave:
    """Return how unlike the waves are on the two sides of every cut, in units of usual jumps, shape (outs, intos).

    The sound before ``into`` may be the fault itself, so each side is only compared with what is sure: what comes
    after a cut with what would have come next.
    """
    width = round(_ALIKE_SECONDS * rate)
    expected = np.stack([_going_on(left[:out], width) for out in outs.tolist()])
    actual = np.stack([_first(right[into:], width) for into in intos.tolist()])
    before = np.array([_power_db(left[max(0, out - 2 * width) : out]) for out in outs.tolist()])
    after = np.array([_power_db(right[into : into + 2 * width]) for into in intos.tolist()])
    level_db = np.abs(before[:, np.newaxis] - after)
    one = np.stack([_rise(left[max(0, out - 2) : out]) for out in outs.tolist()])[:, np.newaxis]
    two = np.stack([_rise(right[into : into + 2]) for into in intos.tolist()])
    slopes = np.abs(one - two).sum(axis=2) / (np.abs(one) + np.abs(two) + 1e-9).sum(axis=2)
    spectral_db = spectral_distances_db(
        band_powers(
            np.stack([_part(left[max(0, out - 2 * width) : out][::-1], 2 * width) for out in outs.tolist()]), rate
        ),
        band_powers(np.stack([_part(right[into:], 2 * width) for into in intos.tolist()]), rate),
    )
    unlike = 1.0 - expected @ actual.T
    return np.asarray(
        level_db / max(usual.level_db, 0.5) + slopes + unlike + _SPECTRAL * spectral_db / max(usual.spectral_db, 1e-9)
    )


def _going_on(before: Wave, width: int) -> Wave:
    """Return what would come next, as one vector of length 1 (or 0 if that cannot be told).

    The sound is taken to repeat with the lag at which its end is most like what came before.
    """
    before = before[-4 * width :]
    if len(before) < 3 * width:
        return np.zeros(width * before.shape[1])
    tail, past = before[-width:], before[:-width]
    products = sum(np.correlate(past[:, c], tail[:, c], "valid") for c in range(before.shape[1]))
    powers = np.cumsum(np.concatenate([[0.0], (past**2).sum(axis=1)]))
    likeness = np.asarray(products) / np.sqrt(np.maximum(powers[width:] - powers[:-width], 1e-12))
    at = int(np.argmax(likeness)) + width
    return _first(before[at:], width)


def _first(sound: Wave, width: int) -> Wave:
    """Return the first ``width`` frames as one vector of length 1."""
    part = _part(sound, width).ravel()
    norm = np.sqrt((part**2).sum())
    return np.asarray(part / norm if norm > 0 else part)


def _part(sound: Wave, width: int) -> Wave:
    """Return the first ``width`` frames; those that are missing are 0."""
    part = np.zeros((width, sound.shape[1]))
    part[: len(sound)] = sound[:width]
    return part


def _power_db(sound: Wave) -> float:
    return float(10 * np.log10(np.mean(sound**2) + 1e-9)) if len(sound) else -90.0


def _rise(pair: Wave) -> Wave:
    return np.asarray(pair[1] - pair[0]) if len(pair) == 2 else np.zeros(pair.shape[1])
