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
_REACH_SECONDS = 1.0
"""What is further away says nothing of what is usual here; it is validated with so much."""

_AT_ONCE = 256
"""So many spans are measured together: in hot sound there are hundreds a second."""


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
        self._sums, self._power_sums, self._squares = _sums(self._clean), _sums(self._power), _sums(np.square(wave))
        self._by_length: dict[int, tuple[float, float, float]] = {}
        self._high = float(np.quantile(self._clean, 0.9))
        self._usual_flux, self._flux_spread = self._fluxes(clean)

    def scores(self, starts: Integers, stops: Integers) -> Wave:
        """Return how little rebuilt spans stand out, from 0 to 1; 1 where there is too little sound to tell."""
        scores = np.ones(len(starts))
        if self._model is not None:
            told = np.flatnonzero((starts >= self._frame) & (stops + self._frame <= len(self._wave)))
            for first in range(0, len(told), _AT_ONCE):
                rows = told[first : first + _AT_ONCE]
                scores[rows] = self._scores(self._model, starts[rows], stops[rows])
        return scores

    def _scores(self, model: Model, starts: Integers, stops: Integers) -> Wave:
        rate, order = self._rate, model.order
        lengths = stops - starts
        usual, spread, doubt = self._usual(model, lengths)
        residual = np.abs(_db(_means(self._power_sums, starts, stops + order)) - usual) / (spread + 1.0)
        around = np.stack([starts, stops])[..., np.newaxis] + np.arange(-1, 2)
        join_db = 10 * np.log10(self._power[around].max(axis=(0, 2)) / (self._high + 1e-20) + 1e-9)
        beside = np.maximum(lengths, rate // 200)
        left, right = self._levels_db(starts - beside, starts), self._levels_db(stops, stops + beside)
        # Of a few samples, the level says little.
        wider = np.where(lengths <= rate // 500, beside // 2, 0)
        level_db = np.abs(self._levels_db(starts - wider, stops + wider) - (left + right) / 2)
        at_start, at_stop = self._jumps(starts), self._jumps(stops)
        flux = (np.maximum(at_start[0], at_stop[0]) - self._usual_flux) / (self._flux_spread + 0.5)
        across = np.maximum(at_start[1], at_stop[1])
        doubt_db = doubt - (left + right) / 2
        stands_out = (
            np.clip(level_db, 0, 20) / 4
            + np.clip(flux, 0, 15) / 2
            + np.clip(across, 0, 30) / 8
            + np.clip(join_db, 0, 30) / 12
            + np.clip(residual, 0, 8) / 3
            + np.clip(doubt_db + 25, 0, 30) / 6
        )
        return np.asarray(np.exp(-np.maximum(0.0, stands_out - _EASY) / _SCALE))

    def _usual(self, model: Model, lengths: Integers) -> tuple[Wave, Wave, Wave]:
        """Return for spans of such lengths the median and the spread of the untouched residual's power in dB, and how
        far the model leaves open what they hold, in dB."""
        for length in np.unique(lengths).tolist():
            if length not in self._by_length:
                usual = self._usual_powers(length + model.order)
                doubt_db = float(_db(np.mean(np.square(deviations(model, length)))))
                self._by_length[length] = float(np.median(usual)), float(np.std(usual)), doubt_db
        usual, spread, doubt = np.array([self._by_length[length] for length in lengths.tolist()]).T
        return usual, spread, doubt

    def _levels_db(self, starts: Integers, stops: Integers) -> Wave:
        """Return the levels of spans, as far as the wave goes; −120 dB where it does not."""
        first, last = np.maximum(starts, 0), np.minimum(stops, len(self._wave))
        return np.where(last > first, _db(_means(self._squares, first, np.maximum(last, first + 1))), -120.0)

    def _usual_powers(self, length: int) -> Wave:
        """Return the residual's power in dB in stretches of the untouched sound as long as a place."""
        if len(self._clean) <= length:
            return _db(np.array([self._clean.mean()]))
        starts = np.linspace(0, len(self._clean) - length, 400).astype(np.int64)
        return np.asarray(10 * np.log10(_means(self._sums, starts, starts + length) + 1e-14))

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

    def _jumps(self, at: Integers) -> tuple[Wave, Wave]:
        """Return how unlike the spectra before and after joins are, and those across them to the mean of both."""
        frame = self._frame
        starts = at[:, np.newaxis] + np.array([-frame, -frame // 2, 0])
        windows = np.lib.stride_tricks.sliding_window_view(self._wave, frame)[starts]
        before, across, after = np.moveaxis(_spectrum_db(windows), 1, 0)
        return _distance(before, after), _distance(across, (before + after) / 2)


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
    if not len(starts):
        return []
    reach = round(_REACH_SECONDS * rate)
    first, last = max(0, int(starts[0]) - reach), int(stops[-1]) + reach
    samples, made, starts, stops = samples[first:last], made[first:last], starts - first, stops - first
    around = [Surroundings(samples[:, c], made[:, c], rate) if made[:, c].any() else None for c in range(made.shape[1])]
    scores = np.ones(len(starts))
    for channel, one in enumerate(around):
        if one is not None:
            rebuilt = np.concatenate([[0], np.cumsum(made[:, channel])])
            touched = rebuilt[stops] > rebuilt[starts]
            scores[touched] = np.minimum(scores[touched], one.scores(starts[touched], stops[touched]))
    return list(map(float, scores))


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


def _sums(values: Wave) -> Wave:
    return np.concatenate([[0.0], np.cumsum(values)])


def _means(sums: Wave, starts: Integers, stops: Integers) -> Wave:
    """Return the means of spans of what was summed up; rounding leaves none below zero."""
    return np.asarray(np.maximum(sums[stops] - sums[starts], 0.0) / (stops - starts))


def _db(power: npt.NDArray[np.float64] | np.floating) -> Wave:
    return np.asarray(10 * np.log10(power + 1e-12))
