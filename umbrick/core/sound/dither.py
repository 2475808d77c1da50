"""Dither: noise that turns the error of a shorter word length into steady hiss."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt


class TriangularDither:
    """Non-subtractive dither of triangular distribution, two steps wide.

    Parameters
    ----------
    bits : int
        Word length of the target, 8 to 32.
    channels : int
    seed : int
        Same seed, same noise, so that a saved copy can be made again bit for bit.

    References
    ----------
    S. P. Lipshitz, R. A. Wannamaker, J. Vanderkooy, "Quantization and dither: a theoretical survey", 1992.
    """

    def __init__(self, bits: int, channels: int, seed: int = 0) -> None:
        self._step = 2.0 ** (1 - bits)
        self._channels = channels
        self._random = np.random.default_rng(seed)

    def applied(self, samples: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        """Return the samples rounded to the target's steps with dither; those that lie on a step already, too."""
        noise = self._random.random(samples.shape) - self._random.random(samples.shape)
        return np.round(samples / self._step + noise) * self._step
