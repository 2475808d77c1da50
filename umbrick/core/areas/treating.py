"""What is done to the sound in an area."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.ndimage import convolve1d, maximum_filter, maximum_filter1d, uniform_filter1d

from umbrick.core.areas.area import Area
from umbrick.core.areas.around import foretold
from umbrick.core.areas.shapes import Cells
from umbrick.core.areas.tones import Track, tone_of, tracks
from umbrick.core.areas.transform import ShortTime
from umbrick.core.filters.windows import hann

Wave = npt.NDArray[np.float64]

_LONG_SECONDS, _SHORT_SECONDS = 0.043, 0.023
CONTEXT_SECONDS = 2.5
_PIECE_SECONDS = 12.0
RAMP_SECONDS = 0.008
SILENCED_DB = -120.0
"""By so much a level is lowered of which nothing is to be left."""
_RAMP_BETA = 12.0
_TONE_ROUNDS, _MOST_TONES = 3, 48
_TONE_COVERED = 0.3
_SPARED = 10 ** (6 / 10)
"""What is left by tones is taken for the intruder from so far over what is foretold."""
_TONES_LEAVE = 0.1
"""Of what stands out in an area, tones leave no more; knocks and throats, most of it."""
_TAKEN_SHARE, _LEAST_OVER = 0.5, 0.0125
"""A tone takes some of the sound beneath with it: where it took most of a cell, what is left is raised to what is
foretold, so that there is no hole."""
_ENDED_SHARE = 0.25
"""A tone is one if no more is left without it, close to it."""
_CLOSE_BINS = 3
_SKIRTS = 3, 6
"""Over how many rows and bins beside an area its tones are taken out with it."""
_STEADY_SECONDS = 0.016
"""What changes faster is a throat's or a table's noise."""


@dataclass(frozen=True)
class Treating:
    """What is done: ``level`` changes by ``gain_db``, ``auto`` lowers to what is around, ``rebuild`` rebuilds, ``copy``
    puts there what :func:`copied` is given.

    ``strength`` is how much of it, from 0 to 1; ``sides`` are those of :mod:`umbrick.core.areas.around`; ``soft_hz`` is
    how softly the area ends in frequency.
    """

    action: str
    gain_db: float = -24.0
    strength: float = 1.0
    sides: str = "auto"
    soft_hz: float = 60.0


def treated(wave: Wave, span: tuple[int, int], area: Area, rate: int, treating: Treating) -> Wave:
    """Return the frames of a span of a wave with an area of it treated.

    Parameters
    ----------
    wave : ndarray, shape (frames,)
        The span and what is around it, which tells what would be there.
    span : tuple of int
        Where the area's place begins and ends in the wave. Nothing outside changes.
    area : Area
    rate : int
        In Hz.
    treating : Treating
    """
    made = wave[span[0] : span[1]].copy()
    for start, stop in _pieces(*span, rate):
        low, high = max(0, start - round(CONTEXT_SECONDS * rate)), min(len(wave), stop + round(CONTEXT_SECONDS * rate))
        own = area.moved(span[0] - start)
        change = _change_in(wave[low:high], (start - low, stop - low), own, rate, treating)
        made[start - span[0] : stop - span[0]] += treating.strength * change
    return made


def _pieces(start: int, stop: int, rate: int) -> Iterator[tuple[int, int]]:
    """Yield a span in pieces that can be held in memory; each comes as the one before goes."""
    most, ramp = round(_PIECE_SECONDS * rate), round(RAMP_SECONDS * rate)
    while stop - start > most:
        yield start, start + most
        start += most - ramp
    yield start, stop


def _change_in(wave: Wave, span: tuple[int, int], area: Area, rate: int, treating: Treating) -> Wave:
    """Return by what a treatment at full strength changes the frames of a span; see :func:`treated`."""
    transform = transform_for(area, rate)
    spectra = transform.spectra(wave)
    covered = softly_covered(area, transform.cells(len(wave), rate, -span[0]), treating.soft_hz)
    if treating.action == "level":
        change = transform.sound(spectra * covered * (10 ** (treating.gain_db / 20) - 1), len(wave))
        return _within(change, span, rate)
    power = np.square(np.abs(spectra))
    cells = transform.hop / rate, rate / transform.size
    around = foretold(power, covered, *cells, treating.sides)
    left, gain = spectra, _gain(_over(power, around), 1.0)
    if treating.action == "rebuild":
        # What a tone's quick changes leave far from it is not the area's.
        tones = wave - _without_tones(wave, power, covered, around, transform, rate)
        without = spectra - _with_skirts(covered) * transform.spectra(tones)
        after = np.square(np.abs(without))
        if _is_of_tones(power, after, around, covered):
            over = _over(after, around)
            holes = (over < 1.0) & (after < _TAKEN_SHARE * power)
            filled = np.maximum(over, _LEAST_OVER) ** -0.5
            left, gain = without, np.where(holes, filled, _gain(over, _SPARED))
    return _within(transform.sound(left - spectra + left * covered * (gain - 1), len(wave)), span, rate)


def _over(power: Wave, around: Wave) -> Wave:
    """Return how many times what is foretold a power is; neighbouring bins together, as what stands out in a single
    one is chance."""
    over: Wave = uniform_filter1d(power, 3, axis=1) / np.maximum(around, 1e-30)
    return over


def _gain(over: Wave, spared: float) -> Wave:
    return np.where(over > spared, np.maximum(over, 1.0) ** -0.5, 1.0)


def _is_of_tones(power: Wave, left: Wave, around: Wave, covered: Wave) -> bool:
    """Return whether most of what stands out in an area went with its tones."""
    stood, stands = (float((covered * np.maximum(0.0, some - around)).sum()) for some in (power, left))
    return stands < _TONES_LEAVE * stood


def copied(donor: Wave, wave: Wave, span: tuple[int, int], area: Area, rate: int, treating: Treating) -> Wave:
    """Return the frames of a span of a wave with what another wave, as long, has in an area instead of its own."""
    transform = transform_for(area, rate)
    covered = softly_covered(area, transform.cells(len(wave), rate, -span[0]), treating.soft_hz)
    change = transform.sound(transform.spectra(donor - wave) * covered, len(wave))
    return wave[span[0] : span[1]] + treating.strength * _within(change, span, rate)


def _without_tones(wave: Wave, power: Wave, covered: Wave, around: Wave, transform: ShortTime, rate: int) -> Wave:
    """Return a wave, whose cells have a power, without the tones that stand out in an area."""
    left = wave.copy()
    allowed = covered > _TONE_COVERED
    for _ in range(_TONE_ROUNDS):
        has_ended = True
        for track in tracks(power, around, allowed)[:_MOST_TONES]:
            tone = tone_of(left, track, around, transform, rate)
            if tone.steady_seconds < _STEADY_SECONDS:
                continue
            without = left.copy()
            without[tone.start : tone.start + len(tone.wave)] -= tone.wave
            if _close_to(without, track, transform) <= _ENDED_SHARE * _close_to(left, track, transform):
                left, has_ended = without, False
        if has_ended:
            break
        power = np.square(np.abs(transform.spectra(left)))
    return left


def _close_to(wave: Wave, track: Track, transform: ShortTime) -> float:
    """Return the power of the cells that a tone goes through, and of those beside them."""
    first, last = int(track.rows[0]), int(track.rows[-1])
    low, high = max(0, (first - 2) * transform.hop), (last + 2) * transform.hop
    power = np.square(np.abs(transform.spectra(wave[low:high])))[track.rows - low // transform.hop]
    bins = np.rint(track.bins).astype(np.int64)[:, np.newaxis] + np.arange(-_CLOSE_BINS, _CLOSE_BINS + 1)
    return float(np.take_along_axis(power, np.clip(bins, 0, power.shape[1] - 1), axis=1).sum())


def _with_skirts(covered: Wave) -> Wave:
    """Return a cover with the cells beside it into which a tone in it spreads."""
    rows, bins = _SKIRTS
    wide = maximum_filter(covered, (2 * rows + 1, 2 * bins + 1))
    window = hann(2 * bins + 2)[1:]
    return np.asarray(convolve1d(wide, window / window.sum(), axis=1, mode="nearest"))


def transform_for(area: Area, rate: int) -> ShortTime:
    """Return the transform in which an area is treated: long windows, or short ones where it is short and wide."""
    start, stop, low, high = area.extent
    is_short = stop - start < 4 * _LONG_SECONDS * rate and high - low > 4 / _SHORT_SECONDS
    seconds = _SHORT_SECONDS if is_short else _LONG_SECONDS
    return ShortTime.lasting(seconds, rate)


def softly_covered(area: Area, cells: Cells, soft_hz: float) -> Wave:
    """Return how far an area covers each cell, its edges softened in frequency."""
    # A row's window reaches into the next ones.
    covered = maximum_filter1d(area.covered(cells), 3, axis=0)
    width = 2 * round(soft_hz / cells.hz / 2) + 1
    if width > 1:
        # The edge lies outside, so that all of the area is meant in full.
        covered = maximum_filter1d(covered, width, axis=1)
        window = hann(width + 1)[1:]
        covered = convolve1d(covered, window / window.sum(), axis=1, mode="nearest")
    return np.asarray(covered)


def _within(change: Wave, span: tuple[int, int], rate: int) -> Wave:
    """Return a change inside of a span, which comes and goes within some milliseconds unless the wave ends there."""
    start, stop = span
    made = change[start:stop].copy()
    ramp = min(len(made) // 2, round(RAMP_SECONDS * rate))
    # The sum of a Kaiser window: as short a ramp as leaks no more than −100 dB to other frequencies.
    window = np.kaiser(ramp + 1, _RAMP_BETA)
    rise = (np.cumsum(window) / window.sum())[:ramp]
    if start > 0:
        made[:ramp] *= rise
    if stop < len(change):
        made[len(made) - ramp :] *= rise[::-1]
    return made
