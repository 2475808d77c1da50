"""Repeats that are not exact: a piece of sound that comes again fainter, coded anew, or at a rate a little off.

Its spectra follow one another as they just did, whatever their level; then the wave is compared, with a gain of its
own. A tone and a held vowel are like themselves at any lag: what comes again is so at one alone.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, next_fast_len, rfft
from scipy.ndimage import uniform_filter1d

from umbrick.core.filters.windows import hann
from umbrick.core.survey.packets.line_features import BANDS
from umbrick.core.survey.repeats.loops import has_own_ends, is_steady
from umbrick.core.survey.steps import is_stepped
from umbrick.core.survey.tones.keyed import is_keyed

Floats = npt.NDArray[np.float32]

SHORTEST_LAG_SECONDS, LONGEST_LAG_SECONDS = 0.025, 0.35
_ROWS, _FEWEST_ROWS = 6, 2
"""Spectra in a row that are compared, 32 ms; and from so many rows on they must be close."""

_FAR, _ROWS_AT_ONCE = 9.0, 256
_MOST_BEL = 0.22
"""How far each band may lie from what it was, in units of 10 dB, in the root mean square."""

_QUIETEST_BEL = -6.0
_WINDOW_SECONDS, _STEP_SECONDS = 0.025, 0.004
_BESIDE_SECONDS = 0.0015
_LEAST_DB, _GOES_ON_DB, _LEAST_OVER_DB = 13.0, 10.0, 2.5
_SHORTEST_SECONDS, _LONGEST_SECONDS, _MOST_TURNS = 0.03, 0.5, 2.5
"""What goes round more often is a tone."""

_LAG_SLACK_SECONDS = 0.006
_TONE_BINS, _TONE_SHARE = 12, 0.998
_MOST_PARTS, _SHORTEST_PART_SECONDS, _PART_SLACK_SECONDS, _VOICED = 8, 0.0025, 0.0001, 0.95


class NearRepeat(NamedTuple):
    """Frames of a wave that are like those ``lag`` frames earlier; how alike in dB, by how much more than at any other
    lag, and the gain."""

    start: int
    stop: int
    lag: int
    alike_db: float
    over_db: float
    gain: float
    is_apart: bool
    """Whether it begins and ends by itself, as a note does that is played again."""


def suspects(features: Floats, hop: int, rate: int) -> list[tuple[int, int]]:
    """Return rows of features from which on, and lags in rows at which, spectra follow one another as before.

    Parameters
    ----------
    features : ndarray, shape (rows, FEATURES)
        As :func:`line_features` gives them.
    hop, rate : int
        Frames from a row to the next, frames a second.
    """
    bands, level = features[:, :BANDS], features[:, BANDS]
    shapes = bands - level[:, np.newaxis]
    first, last = round(SHORTEST_LAG_SECONDS * rate / hop), round(LONGEST_LAG_SECONDS * rate / hop)
    if len(shapes) < last + _ROWS:
        return []
    distance = _distances(shapes, first, last)
    nearest = distance.argmin(axis=1)
    least = distance[np.arange(len(shapes)), nearest]
    is_close = (least < _MOST_BEL**2) & (level > _QUIETEST_BEL)
    # Of a run of close rows at one lag the nearest is looked at.
    found = []
    edges = np.flatnonzero(np.diff(is_close, prepend=False, append=False))
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        if end - begin < _FEWEST_ROWS:
            continue
        row = begin + int(least[begin:end].argmin())
        found.append((row, last - int(nearest[row])))
    return found


def _distances(shapes: Floats, first: int, last: int) -> Floats:
    """Return the mean square by which the next few rows lie off those a lag earlier, shape ``(rows, lags)``; the
    longest lag comes first."""
    rows, lags = len(shapes), last - first + 1
    apart = np.full((rows, lags), _FAR, np.float32)
    power = np.square(shapes).sum(axis=1)
    for row in range(last, rows, _ROWS_AT_ONCE):
        own = slice(row, row + _ROWS_AT_ONCE)
        count = len(power[own])
        earlier = slice(row - last, row - first + count)
        products = shapes[own] @ shapes[earlier].T
        down, right = products.strides
        # Each row's products with its own earlier ones lie one further to the right than those of the row above.
        along = np.lib.stride_tricks.as_strided(products, (count, lags), (down + right, right), writeable=False)
        before = np.lib.stride_tricks.sliding_window_view(power[earlier], lags)[:count]
        apart[own] = (power[own, np.newaxis] + before - 2 * along) / shapes.shape[1]
    return uniform_filter1d(apart, _ROWS, axis=0, origin=-(_ROWS // 2), mode="nearest")


def near_repeat(wave: Floats, at: int, lag: int, rate: int) -> NearRepeat | None:
    """Return the repeat about a place of a wave, at a lag to within 6 ms; None if there is none.

    References
    ----------
    Likeness is the normalised cross-correlation (B. S. Atal, 1968); in dB it is the share of the power that is unlike.
    """
    window, slack = round(_WINDOW_SECONDS * rate), round(_LAG_SLACK_SECONDS * rate)
    longest = round(LONGEST_LAG_SECONDS * rate) + slack
    if at < longest or at + window > len(wave):
        return None
    own = wave[at : at + window]
    shortest = round(SHORTEST_LAG_SECONDS * rate) - slack
    last = min(longest, lag + slack)
    near = _likeness(own, wave[at - last : at + window - max(shortest, lag - slack)])
    exact, alike_db = last - int(near.argmax()), _db(float(near.max()))
    if alike_db < _LEAST_DB:
        return None
    any_lag = _likeness(own, wave[at - longest : at + window - shortest])
    beside, best = round(_BESIDE_SECONDS * rate), longest - exact
    others = np.concatenate([any_lag[: max(0, best - beside)], any_lag[best + beside + 1 :]])
    over_db = alike_db - _db(float(others.max(initial=0.0)))
    if over_db < _LEAST_OVER_DB:
        return None
    most = min(_LONGEST_SECONDS * rate, _MOST_TURNS * exact)
    start, stop = _reach(wave, at, exact, window, rate, most)
    if not max(_SHORTEST_SECONDS * rate, exact - 2 * window) <= stop - start <= most:
        return None
    again = wave[start:stop]
    if _is_tone(again) or is_keyed(again, rate) or is_stepped(again) or is_steady(again, rate):
        return None
    if _is_voiced(wave, start, stop, exact, rate):
        return None
    before = wave[start - exact : stop - exact].astype(np.float64)
    gain = float(np.sqrt(np.sum(wave[start:stop].astype(np.float64) ** 2) / (np.sum(before**2) + 1e-12)))
    return NearRepeat(start, stop, exact, alike_db, over_db, gain, has_own_ends(wave, start, stop, rate))


def _is_tone(wave: Floats) -> bool:
    """Whether nearly all of a stretch is a few steady tones: they are alike whenever they sound."""
    power = np.square(np.abs(rfft(wave * hann(len(wave)).astype(np.float32))))
    few = np.partition(power, -_TONE_BINS)[-_TONE_BINS:]
    return bool(few.sum() >= _TONE_SHARE * power.sum())


def _is_voiced(wave: Floats, start: int, stop: int, lag: int, rate: int) -> bool:
    """Whether a stretch is like itself at a whole part of the lag, too: some pitch cycles of a voice, or of a note."""
    own = wave[start:stop].astype(np.float64)
    slack = max(1, round(_PART_SLACK_SECONDS * rate))
    for part in range(2, _MOST_PARTS + 1):
        if lag < part * _SHORTEST_PART_SECONDS * rate:
            break
        for cycle in range(lag // part - slack, lag // part + slack + 1):
            earlier = wave[start - cycle : stop - cycle].astype(np.float64)
            if own @ earlier > _VOICED * np.sqrt((own @ own) * (earlier @ earlier)):
                return True
    return False


def _likeness(own: Floats, earlier: Floats) -> npt.NDArray[np.float64]:
    """Return how like a piece is to every stretch of what came before, the earliest first."""
    size = next_fast_len(len(earlier), real=True)
    products = irfft(rfft(earlier, size) * np.conj(rfft(own, size)), size)[: len(earlier) - len(own) + 1]
    power = np.square(earlier, dtype=np.float64)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    energies = sums[len(own) :] - sums[: -len(own)]
    return np.asarray(products / np.sqrt(np.maximum(energies * np.sum(np.square(own, dtype=np.float64)), 1e-12)))


def _db(likeness: float) -> float:
    return float(-10 * np.log10(np.clip(1 - min(max(likeness, 0.0), 1.0) ** 2, 1e-6, 1.0)))


def _reach(wave: Floats, at: int, lag: int, window: int, rate: int, most: float) -> tuple[int, int]:
    """Return from where to where a wave goes on to be like what it was a lag before, or a stretch longer than most."""
    step, half = max(1, round(_STEP_SECONDS * rate)), window // 2

    def is_alike(start: int) -> bool:
        if start - lag < 0 or start + half > len(wave):
            return False
        one, other = (wave[first : first + half].astype(np.float64) for first in (start, start - lag))
        energy = np.sum(one**2) * np.sum(other**2)
        return bool(energy > 1e-12 and _db(float(one @ other / np.sqrt(energy))) >= _GOES_ON_DB)

    start, stop = at, at + half
    while stop - start <= most and is_alike(start - step):
        start -= step
    while stop - start <= most and is_alike(stop + step - half):
        stop += step
    return start, stop
