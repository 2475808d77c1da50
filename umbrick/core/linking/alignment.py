"""How recordings of one event lie against each other: offset, drift, and whether they are of one event at all.

The phase transform (Knapp & Carter 1976) finds where a few stretches of the shorter recording are in the other one, at
a low rate and over all of it; what agrees with a clock that drifts by little is refined on many short stretches at the
full rate, and a line through their delays, fitted so that outliers count for nothing (Tukey's biweight: Beaton & Tukey
1974), gives offset and drift.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy.fft

from umbrick.core.errors import CancelledError, UmbrickError
from umbrick.core.linking.clock import PPM, Clock
from umbrick.core.linking.correlation import Wave, correlated, highest, spectrum_of
from umbrick.core.linking.excerpts import Excerpt, excerpt, streamed
from umbrick.core.model.robust_spread import robust_spread
from umbrick.core.sound.source import Source

_COARSE_RATE = 8000
_COARSE_SECONDS = (1.5, 16.0)
_COARSE_STRETCHES = 8
_STANDS_OUT = 6.0
"""Standard deviations by which peaks must stand out in the median to be believed."""
_FEWEST_ALIKE = 3
"""So many stretches must lie alike: chance alone brought together two of unlike recordings, never three."""
_PLACES = 4
"""Places kept of each stretch."""
_MOST_DRIFT_PPM = 250.0
"""Clocks of sound devices drift by a tenth of that; sounds that are alike by chance drift by anything."""
_COARSE_SLACK_SECONDS = 0.002

_FINE_RATE = 48000
_FINE_SECONDS = (0.5, 4.0)
_FINE_STRETCHES = 48
_FINE_REACH_SECONDS = 0.05
_FINE_STANDS_OUT = 4.5
"""Little, as a wrong peak lies anywhere within reach, and right ones lie together."""
_TOGETHER_SECONDS = 0.0005
_AGREEING = 0.3
_FEWEST_AGREEING = 3
_STACKED, _FEWEST_FOR_STACKING = 0.5, 5
"""The most confidence in an offset that no stretch alone shows, and how many must have lain alike all the same."""
_BIWEIGHT = 4.685
_LEAST_SPREAD_SECONDS = 2e-6
_ROUNDS = 12
_SURE_OF_DRIFT = 5.0
"""Standard errors of the slope: a smaller drift cannot be told from the error of the delays."""
_SHORTEST_FOR_DRIFT = 3.0

Numbers = npt.NDArray[np.float64]


class NotOneEventError(UmbrickError):
    """Two recordings have nothing in common that could be found."""


class _Hit(NamedTuple):
    """A moment of the first recording, where it was found in the other (both in seconds), and how far it stands out."""

    here: float
    there: float
    height: float


def align(
    first: Source,
    other: Source,
    names: tuple[str, str] = ("the first recording", "the other one"),
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Clock:
    """Return how a recording's clock runs against that of the first.

    Parameters
    ----------
    first, other : Source
        Of any rates and channels; the channels are taken together.
    names : tuple of str
        What they are called if nothing is found.
    progress, is_cancelled : callable

    Raises
    ------
    NotOneEventError
        If nothing in one of them is found in the other.
    CancelledError
        If ``is_cancelled`` says so.
    """
    # Of the shorter one more is in the longer one than the other way round.
    swaps = first.frames * other.rate > other.frames * first.rate
    one, whole = (other, first) if swaps else (first, other)
    stretches = _stretches(one, lambda share: progress(0.1 * share), is_cancelled)
    hits = _found(stretches, whole, lambda share: progress(0.1 + 0.6 * share), is_cancelled)
    agreeing = _consensus([_Hit(hit.there, hit.here, hit.height) for hit in hits] if swaps else hits)
    if not agreeing:
        raise NotOneEventError(
            f"Nothing of {names[0]} is found in {names[1]}: they are not recordings of the same event.",
            "Give the offset by hand if they are.",
        )
    offset, drift = _line(agreeing)
    is_sure = len(agreeing) >= _FEWEST_FOR_STACKING
    return _refined(
        first, other, offset, drift, is_sure, names, lambda share: progress(0.7 + 0.3 * share), is_cancelled
    )


def _stretches(source: Source, progress: Callable[[float], None], is_cancelled: Callable[[], bool]) -> list[Excerpt]:
    """Return stretches spread over a recording, but for silence."""
    seconds = source.frames / source.rate
    length = min(seconds, float(np.clip(seconds / _COARSE_STRETCHES, *_COARSE_SECONDS)))
    found = []
    for part in range(_COARSE_STRETCHES):
        if is_cancelled():
            raise CancelledError
        begins = part * (seconds - length) / max(1, _COARSE_STRETCHES - 1)
        within = excerpt(source, begins, length, _COARSE_RATE)
        if within.wave.any():
            found.append(within)
        progress((part + 1) / _COARSE_STRETCHES)
    return found


def _found(
    stretches: list[Excerpt], source: Source, progress: Callable[[float], None], is_cancelled: Callable[[], bool]
) -> list[_Hit]:
    """Return where stretches are found best in a recording: a few places each, as music repeats itself."""
    if not stretches:
        return []
    length = max(len(stretch.wave) for stretch in stretches)
    size = scipy.fft.next_fast_len(3 * length, real=True)
    wanted = [spectrum_of(stretch.wave, size) for stretch in stretches]
    best: list[list[_Hit]] = [[] for _ in stretches]
    held = np.zeros(length, np.float32)
    at = -length

    def look(wave: Wave) -> None:
        if not wave.any():
            return
        spectrum = spectrum_of(wave, size)
        for number, stretch in enumerate(stretches):
            lag, height = highest(correlated(wanted[number], spectrum, size), 0, length)
            best[number].append(_Hit(stretch.begins, (at + lag) / _COARSE_RATE, height))
            best[number].sort(key=lambda hit: -hit.height)
            del best[number][_PLACES:]

    for block in streamed(source, _COARSE_RATE, progress, is_cancelled):
        held = np.concatenate([held, block])
        while len(held) >= 2 * length:
            look(held[: 2 * length])
            held, at = held[length:], at + length
    while len(held) > 0:
        look(np.pad(held[: 2 * length], (0, max(0, 2 * length - len(held)))))
        held, at = held[length:], at + length
    return [hit for hits in best for hit in hits]


def _consensus(hits: list[_Hit]) -> list[_Hit]:
    """Return the hits that agree with one clock, the most convincing such set; none if there is none."""
    best: list[_Hit] = []
    for one in hits:
        agreeing: list[_Hit] = []
        for hit in sorted(hits, key=lambda hit: -hit.height):
            apart = abs((hit.there - hit.here) - (one.there - one.here))
            slack = _COARSE_SLACK_SECONDS + _MOST_DRIFT_PPM * PPM * abs(hit.here - one.here)
            if apart <= slack and all(abs(hit.here - held.here) > slack for held in agreeing):
                agreeing.append(hit)
        if sum(hit.height for hit in agreeing) > sum(hit.height for hit in best):
            best = agreeing
    if len(best) < _FEWEST_ALIKE or np.median([hit.height for hit in best]) < _STANDS_OUT:
        return []
    return best


def _line(hits: list[_Hit]) -> tuple[float, float]:
    """Return offset in seconds and drift as a share of the line through hits."""
    here = np.array([hit.here for hit in hits])
    delay = np.array([hit.there - hit.here for hit in hits])
    if np.ptp(here) < _SHORTEST_FOR_DRIFT:
        return float(np.median(delay)), 0.0
    drift, offset = np.polyfit(here, delay, 1)
    return float(offset), float(drift)


def _refined(
    first: Source,
    other: Source,
    offset: float,
    drift: float,
    is_sure: bool,
    names: tuple[str, str],
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Clock:
    rate = min(_FINE_RATE, first.rate, other.rate)
    begins = max(0.0, -offset / (1 + drift))
    ends = min(first.frames / first.rate, (other.frames / other.rate - offset) / (1 + drift))
    common = max(0.0, ends - begins)
    length = min(common, float(np.clip(common / 12, *_FINE_SECONDS)))
    count = max(1, min(_FINE_STRETCHES, int(2 * common / max(length, 1e-3)) - 1))
    here, delays, heights = [], [], []
    reach = round(_FINE_REACH_SECONDS * rate)
    stacked = np.zeros(2 * reach + 1, np.float32)
    for number, at in enumerate(np.linspace(begins, max(begins, ends - length), count).tolist()):
        if is_cancelled():
            raise CancelledError
        one = excerpt(first, at, length, rate)
        expected = at + offset + drift * at
        two = excerpt(other, expected - _FINE_REACH_SECONDS, length + 2 * _FINE_REACH_SECONDS, rate)
        progress((number + 1) / count)
        if not (one.wave.any() and two.wave.any()):
            continue
        size = scipy.fft.next_fast_len(len(one.wave) + len(two.wave), real=True)
        middle = round((one.begins + offset + drift * one.begins - two.begins) * rate)
        correlation = correlated(spectrum_of(one.wave, size), spectrum_of(two.wave, size), size)
        lag, height = highest(correlation, middle - reach, middle + reach)
        stacked += correlation[np.arange(middle - reach, middle + reach + 1) % size]
        here.append(one.begins + length / 2)
        delays.append(two.begins + lag / rate - one.begins)
        heights.append(height)
    fitted = _fitted(np.array(here), np.array(delays), np.array(heights), common, other.rate)
    if fitted is not None:
        return fitted
    # No stretch alone is clear enough, but all of them together may be.
    lag, height = highest(np.roll(stacked, -reach), -reach, reach)
    if height < _STANDS_OUT or not is_sure:
        raise NotOneEventError(
            f"What {names[0]} and {names[1]} have in common is too faint to tell how they lie.",
            "Give the offset by hand.",
        )
    sure = 1.0 - float(np.exp(-height / _STANDS_OUT))
    return Clock(other.rate, (offset + lag / rate) * other.rate, drift / PPM, round(_STACKED * sure, 3))


def _fitted(here: Numbers, delays: Numbers, heights: Numbers, common: float, rate: int) -> Clock | None:
    """Return the clock whose line goes through most delays; None if too few lie together."""
    telling = heights >= _FINE_STANDS_OUT
    here, delays, weights = here[telling], delays[telling], heights[telling]
    offset, drift = _densest(here, delays, common)
    rest = delays - offset - drift * here
    together = np.abs(rest) <= _TOGETHER_SECONDS
    share = float(together.mean()) if len(together) else 0.0
    if share < _AGREEING or np.count_nonzero(together) < min(_FEWEST_AGREEING, len(heights)):
        return None
    here, rest, weights = here[together], rest[together], weights[together]
    more, steeper = _robust_line(here, rest, weights, drifts=True)
    if abs(drift + steeper) > _MOST_DRIFT_PPM * PPM:
        return None
    if abs(drift + steeper) < _SURE_OF_DRIFT * _slope_error(here, rest - more - steeper * here):
        rest, drift, steeper = rest + drift * here, 0.0, 0.0
        more, _ = _robust_line(here, rest, weights, drifts=False)
    sure = 1.0 - float(np.exp(-np.median(weights) / _FINE_STANDS_OUT))
    return Clock(rate, (offset + more) * rate, (drift + steeper) / PPM, round(share * sure, 3))


def _robust_line(here: Numbers, rest: Numbers, weights: Numbers, drifts: bool) -> tuple[float, float]:
    """Return offset and slope of the line through delays, outliers counting for little."""
    more, steeper = float(np.median(rest)), 0.0
    for _ in range(_ROUNDS):
        left = rest - more - steeper * here
        spread = max(_LEAST_SPREAD_SECONDS, robust_spread(left, 0.0))
        trust = np.clip(1 - (left / (_BIWEIGHT * spread)) ** 2, 0, None) ** 2 * weights
        if drifts and np.count_nonzero(trust) >= _FEWEST_AGREEING:
            steeper, more = (float(value) for value in np.polyfit(here, rest, 1, w=np.sqrt(trust)))
        else:
            more = float(np.average(rest, weights=trust))
    return more, steeper


def _slope_error(here: Numbers, left: Numbers) -> float:
    """Return the standard error of a line's slope, by what is left of the delays."""
    spread = max(_LEAST_SPREAD_SECONDS, robust_spread(left))
    extent = float(np.sum((here - here.mean()) ** 2))
    return spread / np.sqrt(extent) if extent > 0 else np.inf


def _densest(here: Numbers, delays: Numbers, common: float) -> tuple[float, float]:
    """Return offset and drift of the line that most delays lie together with: through one, or through two far apart."""
    best, found = 0, (float(np.median(delays)) if len(delays) else 0.0, 0.0)
    pairs = [(delay, 0.0) for delay in delays.tolist()]
    if common >= _SHORTEST_FOR_DRIFT:
        for one in range(len(here)):
            for other in range(one + 1, len(here)):
                if here[other] - here[one] > common / 4:
                    drift = float((delays[other] - delays[one]) / (here[other] - here[one]))
                    if abs(drift) <= _MOST_DRIFT_PPM * PPM:
                        pairs.append((float(delays[one] - drift * here[one]), drift))
    for offset, drift in pairs:
        count = int(np.count_nonzero(np.abs(delays - offset - drift * here) <= _TOGETHER_SECONDS))
        if count > best:
            best, found = count, (offset, drift)
    return found
