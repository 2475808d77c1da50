"""Spectrograms for drawing: the level at every column and every frequency that is shown."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache

import numpy as np
import numpy.typing as npt
import scipy.fft

from umbrick.core.errors import CancelledError
from umbrick.core.filters.windows import hann
from umbrick.core.sound.source import Source
from umbrick.core.spectral.grid import size_for
from umbrick.core.view.frequency_scale import FrequencyScale

Levels = npt.NDArray[np.uint8]
Wave = npt.NDArray[np.float32]

LOWEST_DB, STEP_DB = -150.0, 0.625
"""Levels are kept in steps from the lowest on; 0 stands for what is not known, or fainter."""

LENGTHS_SECONDS = (0.0027, 0.0053, 0.0107, 0.0213, 0.0427, 0.0853, 0.1707)
"""Lengths of windows, from sharp in time to sharp in pitch."""

USUAL_LENGTH = 4
_SEVERAL = (-1, 0, 1)
_ROWS_AT_ONCE, _LEAST_SIZE = 128, 32


class Sharpening(Enum):
    """How levels are sharpened: not at all, by several lengths of windows, or by putting them where they belong."""

    NONE = "one length"
    SEVERAL = "three lengths"
    REASSIGNED = "reassigned"


@dataclass(frozen=True)
class Look:
    """How a spectrogram is worked out: which of :data:`LENGTHS_SECONDS`, how sharpened, along which frequencies, and
    how many pixels high."""

    scale: FrequencyScale
    rows: int
    length: int = USUAL_LENGTH
    sharpening: Sharpening = Sharpening.NONE


def level_columns(
    source: Source,
    channel: int,
    start: float,
    step: float,
    count: int,
    look: Look,
    is_overtaken: Callable[[], bool] = lambda: False,
) -> Levels:
    """Return levels for drawing, shape ``(rows, count)``, the highest frequency first.

    Parameters
    ----------
    source : Source
    channel : int
    start, step : float
        Column *c* stands for the frames from ``start + c * step`` on, ``step`` of them.
    count : int
        Number of columns.
    look : Look
    is_overtaken : callable
        Asked now and then; CancelledError if it says so.

    Notes
    -----
    A full-scale sine is 0 dB. With several lengths each place has the least of their levels: a tone is narrow in the
    long window, a click is short in the short one, and what is smeared by either is not in the other (after S. Cheung,
    J. S. Lim, "Combined multiresolution (wide-band/narrow-band) spectrogram", 1992, who take the geometric mean).
    Reassigned, the power of each cell goes to the frequency and the time where it is centred (F. Auger, P. Flandrin,
    "Improving the readability of time-frequency and time-scale representations by the reassignment method", 1995).
    """
    rate = source.rate
    if look.sharpening is Sharpening.REASSIGNED:
        return _reassigned(source, channel, start, step, count, look, is_overtaken)
    # Where a column is longer than a window, longer and shorter ones show nothing more.
    is_close = step < LENGTHS_SECONDS[look.length] * rate
    lengths = _SEVERAL if look.sharpening is Sharpening.SEVERAL and is_close else (0,)
    levels: Wave | None = None
    for by in lengths:
        index = min(max(0, look.length + 2 * by), len(LENGTHS_SECONDS) - 1)
        size = _size(LENGTHS_SECONDS[index], rate)
        own = _rows(_power_db(source, channel, start, step, count, size, is_overtaken), look, rate / size)
        levels = own if levels is None else np.minimum(levels, own)
    assert levels is not None
    return _packed(levels)


def levels_in_db(levels: Levels) -> Wave:
    """Return levels as kept, in dB."""
    return np.asarray(np.float32(LOWEST_DB) + np.float32(STEP_DB) * levels.astype(np.float32))


def _packed(levels_db: Wave) -> Levels:
    steps = (levels_db - np.float32(LOWEST_DB)) * np.float32(1 / STEP_DB)
    return np.clip(steps, 0, 255).astype(np.uint8)


def _size(seconds: float, rate: int) -> int:
    return max(_LEAST_SIZE, size_for(seconds, rate))


def _power_db(
    source: Source, channel: int, start: float, step: float, count: int, size: int, is_overtaken: Callable[[], bool]
) -> Wave:
    """Return the levels of windows in the middle of each column, shape ``(count, size // 2 + 1)``; wide columns have
    the highest of several."""
    window = _window(size)
    scale = np.float32(2 / window.sum())
    # A column wider than a window would miss what sounds between two.
    each = int(min(2, max(1, np.ceil(step / size))))
    middles = start + step * (np.arange(count * each) + 0.5) / each
    firsts = np.rint(middles - size / 2).astype(np.int64)
    made = np.empty((count, size // 2 + 1), np.float32)
    group = max(1, _ROWS_AT_ONCE // each)
    for begin in range(0, count, group):
        if is_overtaken():
            raise CancelledError
        chosen = firsts[begin * each : (begin + group) * each]
        spectra = scipy.fft.rfft(_windows(source, channel, chosen, size) * window, axis=1)
        power = np.square(spectra.real) + np.square(spectra.imag)
        made[begin : begin + group] = power.reshape(-1, each, power.shape[1]).max(axis=1)
    return np.asarray(10 * np.log10(made * scale * scale + np.float32(1e-20)))


def _windows(source: Source, channel: int, firsts: npt.NDArray[np.int64], size: int) -> Wave:
    """Return windows that begin at some frames, ascending, shape ``(windows, size)``; silence beyond the ends."""
    low, high = int(firsts[0]), int(firsts[-1]) + size
    if high - low <= 4 * size * len(firsts):
        wave = _read(source, channel, low, high)
        return np.lib.stride_tricks.sliding_window_view(wave, size)[firsts - low]
    return np.stack([_read(source, channel, first, first + size) for first in firsts.tolist()])


def _read(source: Source, channel: int, low: int, high: int) -> Wave:
    first, last = max(0, low), min(high, source.frames)
    if first >= last:
        return np.zeros(high - low, np.float32)
    return np.pad(source.read(first, last)[:, channel], (first - low, high - last))


def _rows(levels_db: Wave, look: Look, hz: float) -> Wave:
    """Return levels of bins along the rows that are drawn, shape ``(rows, columns)``, the highest first."""
    bins = levels_db.shape[1]
    edges = look.scale.hz_at(np.linspace(1, 0, look.rows + 1)) / hz
    upper, lower = edges[:-1], edges[1:]
    columns = levels_db.T
    made = np.empty((look.rows, len(levels_db)), np.float32)
    # Where several bins lie in a row it has the loudest; where one lies in several rows, what is between.
    wide = upper - lower >= 1.5
    for row in np.flatnonzero(wide).tolist():
        first = min(max(0, int(np.ceil(lower[row]))), bins - 1)
        made[row] = columns[first : max(first + 1, min(bins, int(np.ceil(upper[row]))))].max(axis=0)
    narrow = np.flatnonzero(~wide)
    middle = np.clip((upper[narrow] + lower[narrow]) / 2, 0, bins - 1)
    below = np.minimum(middle.astype(np.int64), bins - 2)
    share = (middle - below).astype(np.float32)[:, np.newaxis]
    made[narrow] = columns[below] * (1 - share) + columns[below + 1] * share
    return made


def _reassigned(
    source: Source, channel: int, start: float, step: float, count: int, look: Look, is_overtaken: Callable[[], bool]
) -> Levels:
    rate = source.rate
    size = _size(LENGTHS_SECONDS[look.length], rate)
    hop = max(1.0, step if step < size / 8 else max(size / 8, step / 2))
    beside = int(np.ceil(size / 2 / hop))
    total = int(np.ceil(count * step / hop)) + 2 * beside
    middles = start + hop * (np.arange(total) - beside + 0.5)
    window = _window(size)
    time = (np.arange(size) - size / 2).astype(np.float32)
    slope = np.gradient(window).astype(np.float32)
    scale = np.float32(2 / window.sum())
    power = np.zeros((look.rows, count), np.float64)
    for begin in range(0, total, _ROWS_AT_ONCE):
        if is_overtaken():
            raise CancelledError
        part = middles[begin : begin + _ROWS_AT_ONCE]
        windows = _windows(source, channel, np.rint(part - size / 2).astype(np.int64), size)
        plain, timed, sloped = (scipy.fft.rfft(windows * by, axis=1) for by in (window, window * time, slope))
        own = np.square(np.abs(plain)) * scale * scale
        seen = own > 1e-14
        ratio = np.where(seen, 1 / np.where(seen, plain, 1), 0)
        at = part[:, np.newaxis] + np.real(timed * ratio)
        bins = np.arange(plain.shape[1]) - np.imag(sloped * ratio) * size / (2 * np.pi)
        columns = np.floor((at - start) / step).astype(np.int64)
        rows = np.floor((1 - look.scale.share_of(np.maximum(bins, 0) * rate / size)) * look.rows).astype(np.int64)
        inside = seen & (columns >= 0) & (columns < count) & (rows >= 0) & (rows < look.rows)
        index = rows[inside] * count + columns[inside]
        power += np.bincount(index, own[inside] * hop / max(step, hop), look.rows * count).reshape(look.rows, count)
    return _packed((10 * np.log10(power + 1e-20)).astype(np.float32))


@lru_cache(maxsize=16)
def _window(size: int) -> Wave:
    return hann(size).astype(np.float32)
