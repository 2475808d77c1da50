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
from umbrick.core.survey.line_features import BANDS
from umbrick.core.survey.loops import has_own_ends

Floats = npt.NDArray[np.float32]

SHORTEST_LAG_SECONDS, LONGEST_LAG_SECONDS = 0.025, 0.35
_ROWS, _FEWEST_ROWS = 6, 2
"""Spectra in a row that are compared, 32 ms; and from so many rows on they must be close."""

_MOST_BEL = 0.22
"""How far each band may lie from what it was, in units of 10 dB, in the root mean square."""

_QUIETEST_BEL = -6.0
_WINDOW_SECONDS, _STEP_SECONDS = 0.025, 0.004
_BESIDE_SECONDS = 0.0015
_LEAST_DB, _GOES_ON_DB = 13.0, 10.0
_SHORTEST_SECONDS, _LONGEST_SECONDS, _MOST_TURNS = 0.03, 0.5, 2.5
"""What goes round more often is a tone."""

_LAG_SLACK_SECONDS = 0.006
_TONE_BINS, _TONE_SHARE = 12, 0.998


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
    lags = np.arange(first, last + 1)
    distance = np.full((len(lags), len(shapes)), np.float32(9))
    for index, lag in enumerate(lags.tolist()):
        apart = np.square(shapes[lag:] - shapes[:-lag]).mean(axis=1)
        distance[index, lag:] = uniform_filter1d(apart, _ROWS, origin=-(_ROWS // 2), mode="nearest")
    nearest = distance.argmin(axis=0)
    least = distance[nearest, np.arange(len(shapes))]
    is_close = (least < _MOST_BEL**2) & (level > _QUIETEST_BEL)
    # Of a run of close rows at one lag the nearest is looked at.
    found = []
    edges = np.flatnonzero(np.diff(is_close, prepend=False, append=False))
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        if end - begin < _FEWEST_ROWS:
            continue
        row = begin + int(least[begin:end].argmin())
        found.append((row, int(lags[nearest[row]])))
    return found


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
    own = wave[at : at + window].astype(np.float64)
    shortest = round(SHORTEST_LAG_SECONDS * rate) - slack
    earlier = wave[at - longest : at + window - shortest].astype(np.float64)
    likeness = _likeness(own, earlier)
    tried = longest - np.arange(len(likeness))
    near = np.abs(tried - lag) <= slack
    best = int(np.argmax(np.where(near, likeness, -1)))
    beside = round(_BESIDE_SECONDS * rate)
    others = np.concatenate([likeness[: max(0, best - beside)], likeness[best + beside + 1 :]])
    alike_db = _db(float(likeness[best]))
    over_db = alike_db - _db(float(others.max(initial=0.0)))
    if alike_db < _LEAST_DB:
        return None
    exact = int(tried[best])
    start, stop = _reach(wave, at, exact, window, rate)
    is_short = stop - start < max(_SHORTEST_SECONDS * rate, exact - 2 * window)
    if is_short or stop - start > min(_LONGEST_SECONDS * rate, _MOST_TURNS * exact):
        return None
    if _is_tone(wave[start:stop]):
        return None
    before = wave[start - exact : stop - exact].astype(np.float64)
    gain = float(np.sqrt(np.sum(wave[start:stop].astype(np.float64) ** 2) / (np.sum(before**2) + 1e-12)))
    return NearRepeat(start, stop, exact, alike_db, over_db, gain, has_own_ends(wave, start, stop, rate))


def _is_tone(wave: Floats) -> bool:
    """Whether nearly all of a stretch is a few steady tones: they are alike whenever they sound."""
    power = np.square(np.abs(rfft(wave * hann(len(wave)).astype(np.float32))))
    few = np.partition(power, -_TONE_BINS)[-_TONE_BINS:]
    return bool(few.sum() >= _TONE_SHARE * power.sum())


def _likeness(own: npt.NDArray[np.float64], earlier: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    size = next_fast_len(len(earlier), real=True)
    products = irfft(rfft(earlier, size) * np.conj(rfft(own, size)), size)[: len(earlier) - len(own) + 1]
    sums = np.concatenate([[0.0], np.cumsum(earlier**2)])
    energies = sums[len(own) :] - sums[: -len(own)]
    return np.asarray(products / np.sqrt(np.maximum(energies * np.sum(own**2), 1e-12)))


def _db(likeness: float) -> float:
    return float(-10 * np.log10(np.clip(1 - min(max(likeness, 0.0), 1.0) ** 2, 1e-6, 1.0)))


def _reach(wave: Floats, at: int, lag: int, window: int, rate: int) -> tuple[int, int]:
    """Return from where to where a wave goes on to be like what it was a lag before."""
    step, half = max(1, round(_STEP_SECONDS * rate)), window // 2

    def is_alike(start: int) -> bool:
        if start - lag < 0 or start + half > len(wave):
            return False
        one, other = (wave[first : first + half].astype(np.float64) for first in (start, start - lag))
        energy = np.sum(one**2) * np.sum(other**2)
        return bool(energy > 1e-12 and _db(float(one @ other / np.sqrt(energy))) >= _GOES_ON_DB)

    start, stop = at, at + half
    while is_alike(start - step):
        start -= step
    while is_alike(stop + step - half):
        stop += step
    return start, stop
