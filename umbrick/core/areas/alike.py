"""Finding where a recording holds what an area holds, again: the other beeps of a series."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy
from scipy.ndimage import label

from umbrick.core.areas.area import Area
from umbrick.core.areas.transform import ShortTime
from umbrick.core.errors import CancelledError
from umbrick.core.sound.source import Source

Wave = npt.NDArray[np.float64]

LEAST_LIKENESS = 0.45
_SIZE_SECONDS = 0.043
_BESIDE_SECONDS, _BESIDE_HZ = 0.12, 150.0
_FLOOR_DB, _FAINT_DB = 30.0, 12.0
_LEAST_OVER_DB, _MOST_APART_DB = 5.0, 9.0
_BLOCK_SECONDS = 30.0


class Alike(NamedTuple):
    """Where an area's sound is heard again: how far its place is moved, in frames, and how like it is, up to 1."""

    moved: int
    likeness: float


def places_alike(
    source: Source,
    channel: int,
    at: int,
    area: Area,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> list[Alike]:
    """Return where else a channel holds what an area of it holds, in order of time.

    Parameters
    ----------
    source : Source
    channel : int
    at : int
        Where the area's place begins.
    area : Area

    Notes
    -----
    Levels in dB of the area and of what is beside it are compared with those at all other times by their normalised
    cross-correlation (Lewis, 1995); a place counts if it also stands out of what is just before and after it, and is
    about as loud.
    """
    rate = source.rate
    transform = ShortTime.lasting(_SIZE_SECONDS, rate)
    hop = transform.hop
    start, stop, low_hz, high_hz = area.extent
    beside = round(_BESIDE_SECONDS * rate / hop)
    first, last = int(np.floor((at + start) / hop)) - beside, int(np.ceil((at + stop) / hop)) + beside + 1
    low = max(0, round((low_hz - _BESIDE_HZ) * transform.size / rate))
    high = min(transform.size // 2 + 1, round((high_hz * area.harmonics + _BESIDE_HZ) * transform.size / rate) + 1)
    bins = slice(low, max(high, low + 2))

    def levels(begin: int, end: int) -> Wave:
        """Return the levels of rows, of which row r has its middle at frame ``r * hop`` of the recording."""
        lead = begin * hop - transform.size
        before = max(0, lead)
        wave = source.read(min(before, source.frames), min(source.frames, end * hop + transform.size))[:, channel]
        padded = np.pad(wave.astype(np.float64), (before - lead, max(0, end * hop + transform.size - source.frames)))
        rows = transform.spectra(padded)[transform.size // hop :][: end - begin, bins]
        return np.asarray(20 * np.log10(np.abs(rows) + 1e-12))

    own = levels(first, last)
    cells = transform.cells((last - first) * hop, rate, first * hop - at)
    inside = area.covered(cells)[: len(own), bins] > 0.5
    loudest = own[inside].max(initial=own.min())
    # What is faint of it, such as its attack's splash, is drowned elsewhere, and other sound may have
    # come with it: what hangs together with the loudest decides.
    parts, _ = label(inside & (own >= loudest - _FAINT_DB), np.ones((3, 3)))
    rows, columns = np.nonzero(
        parts == parts[np.unravel_index(int(np.where(inside, own, -np.inf).argmax()), own.shape)]
    )
    if inside.any():
        beside_bins = round(_BESIDE_HZ * transform.size / rate)
        kept = slice(max(0, int(columns.min()) - beside_bins), int(columns.max()) + 1 + beside_bins)
        held = slice(max(0, int(rows.min()) - beside), int(rows.max()) + 1 + beside)
        own, inside = own[held, kept], inside[held, kept]
        bins = slice(low + kept.start, low + kept.start + own.shape[1])
        first += held.start
    own = np.maximum(own, loudest - _FLOOR_DB)
    total = max(1, -(-source.frames // hop) + 1)
    block = max(len(own) * 2, round(_BLOCK_SECONDS * rate / hop))
    scores = np.zeros(total)
    for begin in range(0, total, block):
        if is_cancelled():
            raise CancelledError
        end = min(total, begin + block)
        part = levels(begin, end + len(own))
        scores[begin:end] = _likeness(part, own, inside, loudest)[: end - begin]
        progress(end / total)
    peaks, _ = scipy.signal.find_peaks(np.pad(scores, 1), height=LEAST_LIKENESS, distance=max(1, len(own) - 2 * beside))
    found = []
    for peak in (peaks - 1).tolist():
        moved = (peak - first) * hop
        if abs(moved) > (stop - start) / 2:
            found.append(Alike(moved, float(scores[peak])))
    return found


def _likeness(levels_db: Wave, own_db: Wave, inside: npt.NDArray[np.bool_], loudest: float) -> Wave:
    """Return for each row how like the levels from there on are to those of an area and what is beside it."""
    rows = len(own_db)
    count = len(levels_db) - rows + 1
    size = own_db.size
    wanted = own_db - own_db.mean()
    # What is fainter than the area's own floor differs by chance; how loud it comes again may differ.
    held = np.maximum(levels_db, np.percentile(levels_db, 20))
    products = scipy.signal.fftconvolve(held, wanted[::-1, ::-1], "valid")[:, 0]
    sums = np.concatenate([[0.0], np.cumsum(held.sum(axis=1))])
    squares = np.concatenate([[0.0], np.cumsum(np.square(held).sum(axis=1))])
    total, square = sums[rows:] - sums[:-rows], squares[rows:] - squares[:-rows]
    spread = np.sqrt(np.maximum(square - np.square(total) / size, 1e-9)) * np.sqrt(np.square(wanted).sum() + 1e-9)
    scores = products / spread
    mask = inside.astype(np.float64)
    if 0 < mask.sum() < size:
        within = scipy.signal.fftconvolve(held, mask[::-1, ::-1], "valid")[:, 0]
        over = within / mask.sum() - (total - within) / (size - mask.sum())
        own_level = float((own_db * mask).sum() / mask.sum())
        is_as_loud = np.abs(within / mask.sum() - own_level) <= _MOST_APART_DB
        scores = np.where((over >= _LEAST_OVER_DB) & is_as_loud, scores, 0.0)
    return np.asarray(scores[:count])
