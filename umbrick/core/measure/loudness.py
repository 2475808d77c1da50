"""Integrated loudness, measured block by block."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.filters.recursive import filtered
from umbrick.core.filters.shapes import cut, shelf
from umbrick.core.units import SILENCE_DBFS

_SHELF_HZ, _SHELF_DB, _LOW_CUT_HZ = 1500.0, 4.0, 38.0
_STEPS_PER_SECOND = 10
_STEPS_PER_BLOCK = 4
_STEPS_PER_SHORT_TERM = 30
_ABSOLUTE_GATE, _RELATIVE_GATE = -70.0, -10.0
_SURROUND_WEIGHT = 1.41


class LoudnessMeter:
    """Collects the energy of K-weighted sound; the same result as for the whole at once.

    Up to five channels are weighted as left, right, centre, and two surrounds; more count like the first three.

    References
    ----------
    Recommendation ITU-R BS.1770-4, 2015.
    """

    def __init__(self, rate: int, channels: int) -> None:
        turn = 2 * np.pi / rate
        high = shelf(turn * min(_SHELF_HZ, 0.45 * rate), np.sqrt(0.5), 10 ** (_SHELF_DB / 40), is_low=False)
        self._sections = np.concatenate([high, cut(turn * _LOW_CUT_HZ, 0.5, is_low=True)])
        self._state = np.zeros((2, channels, 2))
        self._frames = 0
        self._step = max(1, rate // _STEPS_PER_SECOND)
        weights = np.ones(channels)
        if channels == 5:
            weights[3:] = _SURROUND_WEIGHT
        self._weights = weights
        self._left = np.zeros((channels, 0))
        self._energies: list[npt.NDArray[np.float64]] = []

    def feed(self, samples: npt.NDArray[np.float32]) -> None:
        """Measure the samples, of shape ``(frames, channels)``, that follow the last ones."""
        own = samples.T.astype(np.float64, order="C")
        weighted, self._state = filtered(self._sections, own, self._state, self._frames)
        self._frames += len(samples)
        weighted = np.concatenate([self._left, weighted], axis=1)
        whole = weighted.shape[1] // self._step * self._step
        if whole:
            steps = weighted[:, :whole].reshape(len(weighted), -1, self._step)
            self._energies.append(self._weights @ np.einsum("csf,csf->cs", steps, steps) / self._step)
        self._left = weighted[:, whole:].copy()

    def short_term_lufs(self) -> float:
        """Return the ungated loudness of the last three seconds in LUFS; ``SILENCE_DBFS`` for silence."""
        recent = self._energies[-_STEPS_PER_SHORT_TERM:]
        steps = np.concatenate(recent)[-_STEPS_PER_SHORT_TERM:] if recent else np.zeros(0)
        return loudness_of(steps.mean()) if len(steps) and steps.mean() > 0 else SILENCE_DBFS

    def energies(self) -> npt.NDArray[np.float64]:
        """Return the weighted energy of every tenth of a second so far."""
        return np.concatenate(self._energies) if self._energies else np.zeros(0)

    def integrated_lufs(self) -> float:
        """Return the gated loudness in LUFS; ``SILENCE_DBFS`` if nothing passes the gate or it is under 0.4 s."""
        steps = self.energies()
        if len(steps) < _STEPS_PER_BLOCK:
            return SILENCE_DBFS
        blocks = np.convolve(steps, np.full(_STEPS_PER_BLOCK, 1 / _STEPS_PER_BLOCK), "valid")
        loud = blocks[blocks > _energy(_ABSOLUTE_GATE)]
        if not len(loud):
            return SILENCE_DBFS
        loud = loud[loud > _energy(loudness_of(loud.mean()) + _RELATIVE_GATE)]
        return loudness_of(loud.mean())


def loudness_of(energy: float) -> float:
    """Return the loudness in LUFS of a weighted mean energy, greater than 0."""
    return float(-0.691 + 10 * np.log10(energy))


def _energy(loudness: float) -> float:
    return float(10 ** ((loudness + 0.691) / 10))
