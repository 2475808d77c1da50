"""Hum as it is in a recording: a fundamental that may drift, and steady waves at its multiples."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.decimation import decimated
from umbrick.core.sound.source import Source
from umbrick.core.survey.tones.steady_lines import ENOUGH_DB, mains_evidence_db, steady_lines

Floats = npt.NDArray[np.float64]
Complexes = npt.NDArray[np.complex128]
Turned = npt.NDArray[np.complex64]

MOMENT_SECONDS = 0.25
REACH = 13
"""A wave is fitted to the moments around a place, so many on either side: three seconds, as hum is steady so long."""

_TAPS_PER_STEP = 8
_USABLE = 0.6
"""Up to this share of half the lower rate the low-pass leaves sound as it is."""

_FITTED_RATE, _TRACKED_RATE = 8000, 1600
_KNOT_SECONDS, _KNOT_REACH_SECONDS = 2.0, 4.0
_TRACK_HZ, _TRACK_STEP_HZ = 0.8, 0.0025
_USUAL_CHANGE_HZ, _DEAREST_CHANGE = 0.02, 6.0
_TRACKED_HARMONICS = 8

_WINDOW_SECONDS, _MOST_WINDOWS = 10.0, 60
_CANDIDATES_HZ = (50.0, 60.0, 50.0 / 3)
_REACH_HZ = 0.6
_FITS, _QUIETER, _SMALLEST = 5, 0.05, 1e-20
_UNSURE = 3.0
"""So many variances of a fitted wave are what it must exceed to be taken for hum."""

_MOST_TOLD, _MOMENTS_TOLD, _STRETCHES_TOLD = 40, 32, 12
"""The levels of so many multiples are told, by stretches of eight seconds."""

_BLOCK_FRAMES = 1 << 18
_MOMENTS_AT_ONCE = 2400


@dataclass(frozen=True)
class HumTrack:
    """The fundamental in Hz at every second knot, from the start of a recording on; the last one goes on."""

    hz: Floats

    def turned(self, start: int, step: int, count: int, rate: float) -> Turned:
        """Return ``exp(2πi x)`` for every ``step``-th of ``count`` frames from ``start`` on, the fundamental having
        turned x times since the recording began."""
        hz = self.hz
        done = np.concatenate([[0.0], np.cumsum((hz[1:] + hz[:-1]) / 2 * _KNOT_SECONDS)])
        turns = np.empty(count)
        at = 0
        while at < count:
            seconds = (start + at * step) / rate
            knot = min(max(0, int(seconds / _KNOT_SECONDS)), len(hz) - 1)
            ends = count if knot == len(hz) - 1 else -(-((knot + 1) * _KNOT_SECONDS * rate - start) // step)
            stop = int(min(count, max(at + 1, ends)))
            into = (start + step * np.arange(at, stop, dtype=np.float64)) / rate - knot * _KNOT_SECONDS
            slope = (hz[min(knot + 1, len(hz) - 1)] - hz[knot]) / _KNOT_SECONDS
            turns[at:stop] = (into * (slope / 2) + hz[knot]) * into + done[knot]
            at = stop
        angles = (2 * np.pi * (turns - np.floor(turns))).astype(np.float32)
        made = np.empty(count, np.complex64)
        np.cos(angles, out=made.real)
        np.sin(angles, out=made.imag)
        return made


def moment_frames(rate: int) -> tuple[int, int]:
    """Return how many frames a moment has, and how many become one where waves are fitted."""
    step = max(1, rate // _FITTED_RATE)
    return step * max(1, round(MOMENT_SECONDS * rate / step)), step


def most_harmonics(rate: int, hz: float) -> int:
    """Return how many multiples of a fundamental can be fitted."""
    _, step = moment_frames(rate)
    return int(_USABLE * rate / step / 2 // hz)


def lead_frames(step: int) -> int:
    """Return how many frames on either side the change to a lower rate needs."""
    return _TAPS_PER_STEP * step // 2 if step > 1 else 0


def moments(wave: npt.NDArray[np.float32], turned: Turned, length: int, harmonics: int) -> Complexes:
    """Return the complex amplitude of each multiple in every moment: shape ``(harmonics, moments)``.

    Parameters
    ----------
    wave : ndarray, shape (moments * length,)
    turned : ndarray, shape (moments * length,)
        How the fundamental has turned, see :meth:`HumTrack.turned`.
    """
    back = turned.conj()
    still = wave * back
    mean = np.full(length, 2 / length, np.complex64)
    made = np.empty((harmonics, len(wave) // length), np.complex128)
    for number in range(harmonics):
        made[number] = still.reshape(-1, length) @ mean
        np.multiply(still, back, out=still)
    return made


def fitted(seen: Complexes, is_inside: npt.NDArray[np.bool_]) -> Complexes:
    """Return the amplitude of the hum in each moment but the ``REACH`` first and last.

    What sounds besides hum at a multiple comes and goes: moments weigh the less the further they are from what most
    say.

    Parameters
    ----------
    seen : ndarray, shape (harmonics, moments)
    is_inside : ndarray, shape (moments,)
        Which of them lie in the recording.

    References
    ----------
    Iteratively reweighted least squares: P. W. Holland, R. E. Welsch, 1977.
    """
    width = 2 * REACH + 1
    around = np.lib.stride_tricks.sliding_window_view(seen, width, axis=1)
    bell = np.sin(np.pi * (np.arange(width) + 1) / (width + 1)) ** 2
    counted = bell * np.lib.stride_tricks.sliding_window_view(is_inside, width)
    power = np.square(np.abs(around))
    mean = (counted * power).sum(axis=2, keepdims=True) / np.maximum(counted.sum(axis=1)[:, np.newaxis], _SMALLEST)
    weights = counted / (power + _QUIETER * mean + _SMALLEST)
    made = np.zeros(around.shape[:2], np.complex128)
    for _ in range(_FITS):
        total = np.maximum(weights.sum(axis=2), _SMALLEST)
        made = (weights * around).sum(axis=2) / total
        away = np.square(np.abs(around - made[:, :, np.newaxis]))
        spread = (weights * away).sum(axis=2) / total
        weights = counted / (away + 0.3 * spread[:, :, np.newaxis] + _SMALLEST)
    total = np.maximum(weights.sum(axis=2), _SMALLEST)
    variance = (np.square(weights) * away).sum(axis=2) / np.square(total)
    return made * np.maximum(0.0, 1 - _UNSURE * variance / np.maximum(np.square(np.abs(made)), _SMALLEST))


@dataclass(frozen=True)
class Hum:
    """What was found: the track, the level in dBFS of each multiple, and how sure it is, in dB (15 is half sure)."""

    track: HumTrack
    levels_db: tuple[float, ...]
    evidence_db: float


def found_hum(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    near_hz: float | None,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Hum | None:
    """Return the hum of a recording, by what is seen in some spans of it; None if they are too short.

    Parameters
    ----------
    near_hz : float, optional
        Where its fundamental is; without, 50, 60 and 16⅔ Hz are tried.
    """
    low, high = min(start for start, _ in spans), max(stop for _, stop in spans)
    step = max(1, sound.rate // _TRACKED_RATE)
    rate = sound.rate / step
    first, wave = _low(sound, low, high, channels, step, progress, is_cancelled)
    if len(wave) < 2 * rate:
        return None
    length = min(round(_WINDOW_SECONDS * rate), len(wave))
    count = min(-(-len(wave) // length), _MOST_WINDOWS)
    windows = [wave[at : at + length] for at in np.linspace(0, len(wave) - length, count).astype(int).tolist()]
    candidates = _CANDIDATES_HZ if near_hz is None else (near_hz,)
    evidence, hz = max(_evidence(windows, rate, candidate) for candidate in candidates)
    harmonics = max(1, min(_TRACKED_HARMONICS, int(0.3 * rate // hz)))
    own = _tracked(wave, rate, hz, harmonics)
    knots = np.full(int(sound.frames / sound.rate // _KNOT_SECONDS) + 2, own[0])
    begin = round(first * step / sound.rate / _KNOT_SECONDS)
    knots[begin : begin + len(own)] = own[: len(knots) - begin]
    knots[begin + len(own) :] = own[-1]
    track = HumTrack(np.round(knots, 4))
    return Hum(track, _levels_db(sound, low, high, channels, track), evidence)


def _low(
    sound: Source,
    start: int,
    stop: int,
    channels: Sequence[int],
    step: int,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> tuple[int, npt.NDArray[np.float32]]:
    """Return the mean of channels at a lower rate, from the knot after ``start`` on, and which value that is."""
    knot = round(_KNOT_SECONDS * sound.rate / step) * step
    first = -(-start // knot) * knot
    parts = [np.zeros(0, np.float32)]
    for begin, end in blocks_of([(first, max(first + 1, stop))], _BLOCK_FRAMES // step * step, progress, is_cancelled):
        count = (min(end, sound.frames) - begin) // step
        if count > 0:
            parts.append(_lowered(sound, begin, count, step, channels))
    return first // step, np.concatenate(parts)


def _lowered(sound: Source, begin: int, count: int, step: int, channels: Sequence[int]) -> npt.NDArray[np.float32]:
    """Return ``count`` values of the mean of channels, one for every ``step`` frames from ``begin`` on."""
    lead = lead_frames(step)
    low, high = begin - lead, begin + (count - 1) * step + lead + 1
    read = sound.read(max(0, low), min(sound.frames, high))[:, list(channels)].mean(axis=1)
    padded = np.pad(read, (max(0, -low), max(0, high - sound.frames)), mode="edge")
    return lowered_wave(padded, step, count)


def lowered_wave(wave: npt.NDArray[np.float32], step: int, count: int) -> npt.NDArray[np.float32]:
    """Return ``count`` values of a wave that begins :func:`lead_frames` before the first of them."""
    lead = lead_frames(step)
    return decimated(wave, step, _TAPS_PER_STEP)[lead // step : lead // step + count]


def _evidence(windows: Sequence[npt.NDArray[np.float32]], rate: float, hz: float) -> tuple[float, float]:
    """Return how clearly most windows show lines at multiples of a frequency, in dB, and which that is exactly."""
    numbers = np.arange(1, _TRACKED_HARMONICS + 1)
    numbers = numbers[numbers * hz < 0.35 * rate]
    if not len(numbers):
        return 0.0, hz
    seen = [steady_lines(window, rate, hz, _REACH_HZ, numbers.tolist()) for window in windows]
    # Hum may come and go: a quarter of the windows is enough.
    over = np.percentile([lines.over_db for lines in seen], 75 if len(seen) > 3 else 50, axis=0)
    _, evidence = mains_evidence_db(over)
    clearest = sorted(seen, key=lambda lines: -float(np.clip(lines.over_db, 0, ENOUGH_DB).sum()))
    half = clearest[: max(1, len(clearest) // 2)]
    return evidence, float(np.median([lines.fundamental_hz for lines in half]))


def _tracked(wave: npt.NDArray[np.float32], rate: float, hz: float, harmonics: int) -> Floats:
    """Return the fundamental at every knot of a wave: the likeliest path of what the multiples say together.

    References
    ----------
    The path is found by dynamic programming (A. Viterbi, 1967); the multiples' periodograms are added up as the
    logarithms of what each explains (after D. J. Hermes, 1988).
    """
    length = round(MOMENT_SECONDS * rate)
    count = len(wave) // length
    whole = wave[: count * length]
    still = HumTrack(np.array([hz]))
    seen = np.concatenate(
        [
            moments(part, still.turned(first, 1, len(part), rate), length, harmonics)
            for first in range(0, len(whole), _MOMENTS_AT_ONCE * length)
            for part in (whole[first : first + _MOMENTS_AT_ONCE * length],)
        ],
        axis=1,
    )
    power = np.square(np.abs(seen))
    weights = 1 / (power + _QUIETER * power.mean(axis=1, keepdims=True) + _SMALLEST)
    at = (np.arange(count) + 0.5) * length / rate
    offsets = np.arange(-_TRACK_HZ, _TRACK_HZ + 1e-9, _TRACK_STEP_HZ)
    knots = np.arange(0, len(wave) / rate + _KNOT_SECONDS, _KNOT_SECONDS)
    scores = np.empty((len(knots), len(offsets)))
    for row, knot in enumerate(knots.tolist()):
        first, last = np.searchsorted(at, (knot - _KNOT_REACH_SECONDS, knot + _KNOT_REACH_SECONDS))
        if first == last:
            scores[row] = 0.0
            continue
        near = at[first:last] - knot
        bell = np.cos(np.pi / 2 * near / _KNOT_REACH_SECONDS) ** 2
        turn = np.exp(-2j * np.pi * np.outer(offsets, near))
        turned = np.ones_like(turn)
        scores[row] = 0.0
        for number in range(harmonics):
            turned = turned * turn
            told = weights[number, first:last] * bell * seen[number, first:last]
            scores[row] += np.log1p(np.square(np.abs(turned @ told)) / (np.square(np.abs(told)).sum() + 1e-30))
    return hz + _path(scores, offsets)


def _path(scores: Floats, offsets: Floats) -> Floats:
    changes = (offsets[:, np.newaxis] - offsets) / _USUAL_CHANGE_HZ
    # A step costs no more than a few usual changes: generators are switched.
    dear = np.minimum(np.square(changes) / 2, _DEAREST_CHANGE)
    best, back = -scores[0], []
    for row in scores[1:]:
        through = best + dear
        come_from = through.argmin(axis=1)
        back.append(come_from)
        best = through[np.arange(len(offsets)), come_from] - row
    path = [int(best.argmin())]
    for come_from in reversed(back):
        path.append(int(come_from[path[-1]]))
    path.reverse()
    found = offsets[path]
    for index, place in enumerate(path):
        if 0 < place < len(offsets) - 1:
            before, here, after = scores[index, place - 1 : place + 2]
            bend = before - 2 * here + after
            if bend < 0:
                found[index] += np.clip(0.5 * (before - after) / bend, -0.5, 0.5) * _TRACK_STEP_HZ
    return found


def _levels_db(sound: Source, low: int, high: int, channels: Sequence[int], track: HumTrack) -> tuple[float, ...]:
    """Return the level of every multiple in the mean of channels: the median of what some stretches show."""
    length, step = moment_frames(sound.rate)
    harmonics = min(_MOST_TOLD, most_harmonics(sound.rate, float(np.median(track.hz))))
    whole = np.arange(-(-low // length), high // length)
    width = min(len(whole), _MOMENTS_TOLD)
    powers = []
    for at in np.unique(np.linspace(0, len(whole) - width, _STRETCHES_TOLD).astype(int)).tolist():
        begin, count = int(whole[at]) * length, width * length // step
        wave = _lowered(sound, begin, count, step, channels)
        seen = moments(wave, track.turned(begin, step, count, sound.rate), length // step, harmonics)
        beyond = (0, 0), (REACH, REACH)
        made = fitted(np.pad(seen, beyond), np.pad(np.ones(width, bool), REACH))
        powers.append(np.square(np.abs(made)).mean(axis=1) / 2)
    power = np.median(powers, axis=0)
    return tuple(np.round(10 * np.log10(np.maximum(power, 1e-16)), 1).tolist())
