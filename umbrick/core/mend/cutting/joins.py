"""Where a held or repeated piece of sound can be taken out: pairs of places at which the sound is alike."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy
from scipy.ndimage import maximum_filter1d

from umbrick.core.mend.filling.donors import correlated
from umbrick.core.mend.place import Place
from umbrick.core.model.autoregression import modelled
from umbrick.core.sound.source import Source

Wave = npt.NDArray[np.float64]
Frames = npt.NDArray[np.int64]


class _Where(NamedTuple):
    """Between which seconds about the place's end a join may lie, and how many before and after it are compared."""

    first: float
    last: float
    before: float
    after: float


_AGAIN = _Where(-0.014, 0.006, 0.012, 0.012)
"""What comes again ends as it did the first time: a join among that leaves its end, which goes on by itself."""

_HELD = _Where(0.004, 0.010, 0.004, 0.012)
"""What was held breaks off at its end: what comes behind that is compared, one cycle of a low voice at least."""

_STEP_SECONDS = 0.0005
_THE_SAME = 0.985
_ORDER, _EDGE_SECONDS, _BESIDE_SECONDS = 32, 0.003, 0.1
_BREAKS_MORE, _LEAST_BREAK, _LOUD_PERCENTILE = 3.0, 0.5, 90

_NEAR_SECONDS = 0.008
"""So much more or less than the place may go, if nothing is asked for."""

_FAR_SECONDS = 0.04
_APART_SECONDS = 0.002
_ASTRAY, _LATE = 0.4, 0.1
"""What it costs in likeness to take out so much more or less than the place, and to join at the end of the search."""

_SHORTEST_SECONDS = 0.002
_UNKNOWN = -9.0


class Join(NamedTuple):
    """A cut from ``out`` to ``into``, how alike the sound is around both, from −1 to 1, and whether it was held."""

    out: int
    into: int
    likeness: float
    is_held: bool = False

    @property
    def removed(self) -> int:
        """Frames that go."""
        return self.into - self.out


def joins(source: Source, place: Place, removed: int | None = None, count: int = 5) -> list[Join]:
    """Return ways to take out a place, best first, that differ in how much goes.

    Parameters
    ----------
    source : Source
    place : Place
        What is held or comes again.
    removed : int, optional
        Frames that are to go, to within a third of a millisecond; by default about as many as the place has.
    count : int
        At most so many.

    Notes
    -----
    Where the place breaks off at its end, and does not end just as what is before it, it was held, and the join lies at
    its end; otherwise it comes again, and the join lies among what comes again. What comes there, or a little behind
    it, and what came so many frames before, are compared by cross-correlation, as a share of the mean power, as in
    waveform-similarity overlap-add (W. Verhelst, M. Roelands, 1993): one turn of the wave goes over into the same turn
    of another.
    """
    rate = source.rate
    wanted = place.stop - place.start if removed is None else removed
    slack = round(_FAR_SECONDS * rate) if removed is None else max(1, rate // 3000)
    shortest = max(1, min(wanted, round(_SHORTEST_SECONDS * rate)))
    lengths = np.arange(max(shortest, wanted - slack), wanted + slack + 1)
    cost = _ASTRAY * np.abs(lengths - wanted) / max(1, round(_NEAR_SECONDS * rate))
    best, at = _most_alike(source, place, lengths, _AGAIN)
    is_held = best[np.argmax(best - cost)] < _THE_SAME and _breaks_off(source, place)
    if is_held:
        best, at = _most_alike(source, place, lengths, _HELD)
        at -= round(_HELD.first * rate)
    if best.max() == _UNKNOWN:
        return [Join(place.start, min(source.frames, place.start + wanted), 0.0)]
    worth = np.where(best > _UNKNOWN, best - cost, _UNKNOWN)
    peaks = np.union1d(
        scipy.signal.find_peaks(worth, distance=max(1, round(_APART_SECONDS * rate)))[0], [int(np.argmax(worth))]
    )
    ranked = sorted(peaks.tolist(), key=lambda row: -worth[row])[:count]
    return [Join(int(at[row] - lengths[row]), int(at[row]), float(best[row]), is_held) for row in ranked]


def _breaks_off(source: Source, place: Place) -> bool:
    """Return whether linear prediction is surprised where a place ends, and not far more where it starts."""
    beside, edge = round(_BESIDE_SECONDS * source.rate), max(1, round(_EDGE_SECONDS * source.rate))
    first = max(0, place.start - beside)
    sound = source.read(first, min(source.frames, place.stop + beside)).astype(np.float64)
    wave = sound[:, list(place.channels)].mean(axis=1)
    model = modelled(wave, _ORDER)
    if model is None:
        return False
    surprise = np.abs(np.convolve(wave, model.error_filter))
    at_start, at_stop = (surprise[max(0, at - first - edge) : at - first + edge] for at in (place.start, place.stop))
    usual = np.percentile(maximum_filter1d(surprise, 2 * edge)[:: 2 * edge], _LOUD_PERCENTILE)
    return bool(at_stop.max() > max(_LEAST_BREAK * usual, at_start.max() / _BREAKS_MORE))


def _most_alike(source: Source, place: Place, lengths: Frames, where: _Where) -> tuple[Wave, Frames]:
    """Return how alike both sides of the best join are that takes out so many frames, and the frame it goes into."""
    best, at = np.full(len(lengths), _UNKNOWN), np.zeros(len(lengths), np.int64)
    for later in np.arange(where.first, where.last, _STEP_SECONDS):
        into = place.stop + round(later * source.rate)
        likeness = _likeness(source, into, lengths, place.channels, where)
        likeness -= _LATE * (later - where.first) / (where.last - where.first)
        better = likeness > best
        best[better] = likeness[better]
        at[better] = into
    return best, at


def _likeness(source: Source, into: int, lengths: Frames, channels: tuple[int, ...], where: _Where) -> Wave:
    """Return how alike the sound around ``into`` is to that so many frames before: 1 if it is the same, less where it
    is another sound or another level, as a held cycle fades; and ``_UNKNOWN`` where the recording ends too near by."""
    before, after = (round(seconds * source.rate) for seconds in (where.before, where.after))
    likeness = np.full(len(lengths), _UNKNOWN)
    count = int(np.searchsorted(lengths, into - before, "right"))
    if into + after > source.frames or not count:
        return likeness
    low, high = int(lengths[0]), int(lengths[count - 1])
    template = source.read(into - before, into + after).astype(np.float64)[:, list(channels)]
    region = source.read(into - high - before, into - low + after).astype(np.float64)[:, list(channels)]
    products = correlated(region, template)
    sums = np.concatenate([[0.0], np.cumsum((region**2).sum(axis=1))])
    powers = np.maximum(sums[len(template) :] - sums[: -len(template)], 0.0)
    mean = (powers + float((template**2).sum())) / 2
    likeness[:count] = np.where(mean > 1e-18, products / np.maximum(mean, 1e-18), 0.0)[::-1]
    return likeness
