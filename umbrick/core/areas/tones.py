"""Tones in an area: followed from row to row, fitted in amplitude and phase, and so taken out from among the rest."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy

from umbrick.core.areas.transform import ShortTime
from umbrick.core.filters.windows import hann
from umbrick.core.model.parabola import top_of

Wave = npt.NDArray[np.float64]
Signal = npt.NDArray[np.complex128]
Marks = npt.NDArray[np.bool_]

_STANDS_OUT = 10 ** (12 / 10)
_SHORTEST_ROWS, _MISSED_ROWS = 3, 1
_JUMP_BINS = 4.0
_BEYOND_ROWS = 3
_GRID_SECONDS = 0.001
_WIDTHS_SECONDS = (0.003, 0.006, 0.012, 0.024, 0.048, 0.096)
_PHASE_SECONDS = 0.012
_SURE = 4.0
_PHASE_TURNS = 3


class Track(NamedTuple):
    """A tone as it goes through the rows: which these are, ascending, and the bin it is in, between bins too."""

    rows: npt.NDArray[np.int64]
    bins: Wave
    strength: float


def tracks(power: Wave, floor: Wave, allowed: Marks) -> list[Track]:
    """Return the tones that stand out of a floor, the strongest first.

    Parameters
    ----------
    power, floor : ndarray, shape (rows, bins)
        Powers of the cells, and what they would be without any intruder.
    allowed : ndarray of bool, shape (rows, bins)
        Where tones are looked for.

    References
    ----------
    R. J. McAulay, T. F. Quatieri, "Speech analysis/synthesis based on a sinusoidal representation", 1986: peaks are
    linked from row to row to the nearest, here along the glide so far.
    """
    is_top = np.zeros(power.shape, np.bool_)
    middle = power[:, 1:-1]
    is_top[:, 1:-1] = (middle >= power[:, :-2]) & (middle > power[:, 2:])
    is_top &= allowed & (power > _STANDS_OUT * floor)
    going: list[list[tuple[int, float, float]]] = []
    ended: list[list[tuple[int, float, float]]] = []
    logs = np.log(power + 1e-30)
    for row in np.flatnonzero(is_top.any(axis=1)).tolist():
        tops = np.flatnonzero(is_top[row])
        exact = tops + top_of(logs[row, tops - 1], logs[row, tops], logs[row, tops + 1])
        still = [track for track in going if row - track[-1][0] <= 1 + _MISSED_ROWS]
        ended += [track for track in going if row - track[-1][0] > 1 + _MISSED_ROWS]
        going = still
        free = dict(enumerate(exact.tolist()))
        for track in sorted(going, key=lambda track: -track[-1][2]):
            expected = _expected(track, row)
            if free:
                nearest = min(free, key=lambda index: abs(free[index] - expected))
                if abs(free[nearest] - expected) <= _JUMP_BINS:
                    track.append((row, free.pop(nearest), float(power[row, tops[nearest]])))
        going += [[(row, at, float(power[row, tops[index]]))] for index, at in free.items()]
    made = []
    for track in (*ended, *going):
        if len(track) >= _SHORTEST_ROWS:
            rows, bins, powers = zip(*track, strict=True)
            made.append(Track(np.array(rows), np.array(bins), float(sum(powers))))
    return sorted(made, key=lambda track: -track.strength)


def _expected(track: list[tuple[int, float, float]], row: int) -> float:
    """Return where a track would be in a row if it went on gliding as it did."""
    (at, last, _) = track[-1]
    if len(track) < 3:
        return last
    (before, earlier, _) = track[-3]
    return last + (row - at) * (last - earlier) / (at - before)


class Tone(NamedTuple):
    """A fitted tone: its first frame, its wave, and for how many seconds its amplitude is much the same."""

    start: int
    wave: Wave
    steady_seconds: float


def tone_of(wave: Wave, track: Track, floor: Wave, transform: ShortTime, rate: int) -> Tone:
    """Return a track's tone.

    Parameters
    ----------
    wave : ndarray, shape (frames,)
        What it sounds in.
    track : Track
        In the rows and bins of ``transform``.
    floor : ndarray, shape (rows, bins)
        Powers of what is around it.

    Notes
    -----
    The wave is turned back along the tone's phase, so that the tone stands still, and smoothed. How widely is chosen
    at each moment: the widest window that agrees with all narrower ones to within what the sound around explains (O. V.
    Lepski, 1990). What the phase still drifts by then goes into the phase, and it is fitted anew.
    """
    hop, step = transform.hop, max(1, round(_GRID_SECONDS * rate))
    start = max(0, (int(track.rows[0]) - _BEYOND_ROWS) * hop)
    stop = min(len(wave), (int(track.rows[-1]) + _BEYOND_ROWS) * hop)
    frames = np.arange(start, stop)
    bins = np.interp(frames / hop, track.rows, track.bins)
    phase = 2 * np.pi * np.cumsum(bins) / transform.size
    at = np.clip(np.rint(np.arange(0, stop - start, step) + start).astype(np.int64), 0, len(wave) - 1)
    rows = np.clip(np.rint(at / hop).astype(np.int64), 0, len(floor) - 1)
    columns = np.clip(np.rint(bins[at - start]).astype(np.int64), 0, floor.shape[1] - 1)
    density = floor[rows, columns] / np.square(transform.window).sum()
    part = wave[start:stop]
    for turn in range(_PHASE_TURNS):
        still = _in_steps(2 * part * np.exp(-1j * phase), step)
        if turn < _PHASE_TURNS - 1:
            steady = _smoothed(still, _PHASE_SECONDS / _GRID_SECONDS)
            drift = np.unwrap(np.angle(steady))
            # Where the tone is faint its phase is chance: what is strong decides.
            strong = np.abs(steady)
            smooth = _smoothed(drift * strong, 12) / np.maximum(_smoothed(strong, 12), 1e-30)
            phase = phase + np.interp(frames - start, np.arange(len(still)) * step, smooth.real)
    chosen, widths = _as_wide_as_agrees(still, density, rate)
    knots = np.arange(len(chosen)) * step
    amplitude = (
        scipy.interpolate.CubicSpline(knots, chosen)(np.minimum(frames - start, knots[-1]))
        if len(chosen) > 3
        else np.zeros(len(part))
    )
    strength = np.square(np.abs(chosen))
    steady_seconds = float((widths * strength).sum() / max(float(strength.sum()), 1e-30))
    return Tone(start, np.real(amplitude * np.exp(1j * phase)), steady_seconds)


def _in_steps(signal: Signal, step: int) -> Signal:
    """Return a signal's means over two steps, Hann-weighted, at every step."""
    window = hann(2 * step + 1)[1:] if step > 1 else np.ones(1)
    window = window / window.sum()
    padded = np.pad(signal, (len(window) // 2, len(window)))
    windows = np.lib.stride_tricks.sliding_window_view(padded, len(window))[::step][: -(-len(signal) // step)]
    return np.asarray(windows @ window)


def _as_wide_as_agrees(still: Signal, density: Wave, rate: int) -> tuple[Signal, Wave]:
    """Return a tone's amplitude at every step, and over how many seconds it was meant there.

    Windows lie to both sides, or only before or after: so a sudden onset stays one.
    """
    best = np.full(len(still), np.inf)
    chosen, widths = still.copy(), np.full(len(still), _WIDTHS_SECONDS[0])
    for side in (0, -1, 1):
        fitted = [_smoothed(still, seconds / _GRID_SECONDS, side) for seconds in _WIDTHS_SECONDS]
        # Half a window holds half as much.
        spreads = [4 * density * (1.5 if side == 0 else 3.0) / (seconds * rate) for seconds in _WIDTHS_SECONDS]
        agreeing = np.ones(len(still), np.bool_)
        for index, seconds in enumerate(_WIDTHS_SECONDS):
            for narrower in range(index):
                apart = np.square(np.abs(fitted[index] - fitted[narrower]))
                agreeing &= apart <= _SURE * spreads[narrower]
            better = agreeing & (spreads[index] < best)
            chosen[better], widths[better], best[better] = fitted[index][better], seconds, spreads[index][better]
    return chosen, widths


def _smoothed(signal: Wave | Signal, steps: float, side: int = 0) -> Signal:
    """Return a signal's local means, Hann-weighted over so many steps, or only the half before (−1) or after (1) each;
    at its ends of what there is."""
    half = max(1, round(steps / 2))
    window = hann(2 * half + 2)[1:]
    if side:
        # What convolution puts first comes after.
        window = np.where(np.arange(-half, half + 1) * side <= 0, window, 0.0)
    padded = np.pad(signal, len(window))
    known = np.pad(np.ones(len(signal)), len(window))
    inner = slice(len(window), -len(window))
    means = np.convolve(padded, window, "same") / np.maximum(np.convolve(known, window, "same"), 1e-12)
    return np.asarray(means[inner])
