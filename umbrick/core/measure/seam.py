"""The seam score: how little a rebuilt place stands out against the sound around it.

Six things are measured, each against what the sound around does by itself: the level inside, the residual of linear
prediction inside and at both joins, the jump of the spectrum over both joins, how unlike the spectrum across a join is
to those on its two sides, and how far the sound's own model leaves open what should be there. Their sum says how
much the place stands out; it is validated by its rank correlation with the true error of planted gaps.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft
from scipy.ndimage import maximum_filter1d

from umbrick.core.model.autoregression import Model, deviations, modelled
from umbrick.core.model.interpolation import bridged_over

Masks = npt.NDArray[np.bool_]
Integers = npt.NDArray[np.int64]
Wave = npt.NDArray[np.float64]

_ORDER = 32
_FRAME_SECONDS = 0.01
_BANDS = 16
_FLOOR = 1e-8
_EASY, _SCALE = 4.5, 5.5
"""Up to the first a sum is nothing to be heard; each further ``_SCALE`` takes the score down to a third."""

_LEAST_SECONDS = 0.05


class Surroundings:
    """One channel with rebuilt places in it, and what the rest of it does by itself.

    Parameters
    ----------
    wave : ndarray, shape (n,)
    made : ndarray of bool, shape (n,)
        Which samples were rebuilt.
    rate : int
    """

    def __init__(self, wave: Wave, made: Masks, rate: int) -> None:
        self._wave, self._rate = wave, rate
        self._frame = max(16, round(_FRAME_SECONDS * rate))
        self._model: Model | None = None
        # What was rebuilt must not teach the model what is usual; a line over it teaches nothing.
        if made.all() or len(wave) < max(4 * self._frame, _LEAST_SECONDS * rate):
            return
        self._model = modelled(bridged_over(wave, made), _ORDER)
        if self._model is None:
            return
        order = self._model.order
        self._power = np.concatenate([np.zeros(order), np.square(np.convolve(wave, self._model.error_filter, "valid"))])
        clean = ~maximum_filter1d(made, 2 * order + 1)
        clean[:order] = False
        self._clean = self._power[clean] if clean.any() else self._power[order:]
        self._sums = np.concatenate([[0.0], np.cumsum(self._clean)])
        self._high = float(np.quantile(self._clean, 0.9))
        self._usual_flux, self._flux_spread = self._fluxes(clean)

    def score(self, start: int, stop: int) -> float:
        """Return how little a rebuilt span stands out, from 0 to 1; 1 where there is too little sound to tell."""
        model, wave, frame, rate = self._model, self._wave, self._frame, self._rate
        if model is None or start < frame or stop + frame > len(wave):
            return 1.0
        length, order = stop - start, model.order
        inside = float(self._power[start : stop + order].mean())
        usual = self._usual_powers(length + order)
        residual = abs(_db(inside) - float(np.median(usual))) / (float(np.std(usual)) + 1.0)
        edges = max(float(self._power[at - 1 : at + 2].max()) for at in (start, stop))
        join_db = 10 * np.log10(edges / (self._high + 1e-20) + 1e-9)
        beside = max(length, rate // 200)
        left, right = (_level_db(part) for part in (wave[max(0, start - beside) : start], wave[stop : stop + beside]))
        middle = wave[start:stop]
        if length <= rate // 500:
            middle = wave[max(0, start - beside // 2) : stop + beside // 2]
        level_db = abs(_level_db(middle) - (left + right) / 2)
        at_start, at_stop = self._jumps(start), self._jumps(stop)
        flux = (max(at_start[0], at_stop[0]) - self._usual_flux) / (self._flux_spread + 0.5)
        across = max(at_start[1], at_stop[1])
        doubt_db = _db(float(np.mean(np.square(deviations(model, length))))) - (left + right) / 2
        stands_out = (
            np.clip(level_db, 0, 20) / 4
            + np.clip(flux, 0, 15) / 2
            + np.clip(across, 0, 30) / 8
            + np.clip(join_db, 0, 30) / 12
            + np.clip(residual, 0, 8) / 3
            + np.clip(doubt_db + 25, 0, 30) / 6
        )
        return float(np.exp(-max(0.0, stands_out - _EASY) / _SCALE))

    def _usual_powers(self, length: int) -> Wave:
        """Return the residual's power in dB in stretches of the untouched sound as long as a place."""
        if len(self._clean) <= length:
            return np.array([_db(float(self._clean.mean()))])
        starts = np.linspace(0, len(self._clean) - length, 400).astype(np.int64)
        return np.asarray(10 * np.log10((self._sums[starts + length] - self._sums[starts]) / length + 1e-14))

    def _fluxes(self, clean: Masks) -> tuple[float, float]:
        """Return the median and the spread of the untouched sound's own jumps of the spectrum."""
        frame = self._frame
        bad = np.concatenate([[0], np.cumsum(~clean)])
        starts = np.arange(frame, len(self._wave) - frame, frame)
        starts = starts[bad[starts + frame] == bad[starts - frame]]
        starts = starts[:: max(1, len(starts) // 80)]
        if not len(starts):
            return 6.0, 3.0
        windows = np.lib.stride_tricks.sliding_window_view(self._wave, frame)
        found = _distance(_spectrum_db(windows[starts - frame]), _spectrum_db(windows[starts]))
        return float(np.median(found)), float(np.std(found))

    def _jumps(self, at: int) -> tuple[float, float]:
        """Return how unlike the spectra before and after a join are, and that across it to the mean of both."""
        frame = self._frame
        starts = (at - frame, at - frame // 2, at)
        before, across, after = _spectrum_db(np.stack([self._wave[first : first + frame] for first in starts]))
        return float(_distance(before, after)), float(_distance(across, (before + after) / 2))


def seam_scores(samples: Wave, made: Masks, starts: Integers, stops: Integers, rate: int) -> list[float]:
    """Return how little rebuilt runs stand out: the least of their channels' scores, from 0 to 1, for each.

    Parameters
    ----------
    samples : ndarray, shape (frames, channels)
        An excerpt with the rebuilt samples in it.
    made : ndarray of bool, same shape
        Which samples were rebuilt.
    starts, stops : ndarray of int
        The runs of frames in which any channel was rebuilt.
    rate : int
    """
    around = [Surroundings(samples[:, c], made[:, c], rate) if made[:, c].any() else None for c in range(made.shape[1])]
    scores = []
    for start, stop in zip(starts.tolist(), stops.tolist(), strict=True):
        touched = np.flatnonzero(made[start:stop].any(axis=0)).tolist()
        found = [one.score(start, stop) for channel in touched if (one := around[channel]) is not None]
        scores.append(min(found, default=1.0))
    return scores


def _spectrum_db(parts: Wave) -> Wave:
    """Return the levels of bands, of one part or of several of the same length, along the last axis."""
    window, edges = _window_and_bands(parts.shape[-1])
    power = np.square(np.abs(rfft(parts * window)))
    return np.asarray(10 * np.log10(np.add.reduceat(power, edges, axis=-1) + _FLOOR))


@lru_cache(maxsize=8)
def _window_and_bands(length: int) -> tuple[Wave, Integers]:
    return np.hanning(length), np.unique(np.geomspace(2, length // 2, _BANDS).astype(np.int64))


def _distance(one: Wave, other: Wave) -> Wave:
    return np.asarray(np.sqrt(np.mean(np.square(one - other), axis=-1)))


def _level_db(part: Wave) -> float:
    return _db(float(np.mean(np.square(part)))) if len(part) else -120.0


def _db(power: float) -> float:
    return float(10 * np.log10(power + 1e-12))
