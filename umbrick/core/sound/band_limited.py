"""The band-limited curve between samples: what the sound does between the dots."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt

_HALF_WIDTH = 24
"""Samples on each side that the interpolation looks at."""

_KAISER_BETA = 9.0

CURVE_CONTEXT = _HALF_WIDTH
"""Frames beyond both ends of a span that :func:`band_limited` needs to draw it exactly."""


def band_limited(samples: npt.NDArray[np.floating], oversampling: int) -> npt.NDArray[np.float64]:
    """Return the band-limited curve through samples, by windowed-sinc interpolation.

    Parameters
    ----------
    samples : ndarray, shape (n, channels), n >= 1
        Not changed. Beyond its ends the signal is taken to stay at its end values.
    oversampling : int
        Points drawn from one sample to the next, at least 1.

    Returns
    -------
    ndarray, shape ((n - 1) * oversampling + 1, channels)
        Every ``oversampling``-th point is a sample, exactly.

    References
    ----------
    J. F. Kaiser, "Nonrecursive digital filter design using the I0-sinh window function", 1974.
    """
    count = len(samples)
    held = np.concatenate(
        [np.repeat(samples[:1], _HALF_WIDTH, 0), samples, np.repeat(samples[-1:], _HALF_WIDTH, 0)]
    ).astype(np.float64)
    curve = np.empty(((count - 1) * oversampling + 1, samples.shape[1]))
    curve[::oversampling] = samples
    if count == 1:
        return curve
    neighbours = np.lib.stride_tricks.sliding_window_view(held[1:-1], 2 * _HALF_WIDTH, axis=0)[: count - 1]
    between = neighbours @ _kernels(oversampling)
    for phase in range(1, oversampling):
        curve[phase::oversampling] = between[..., phase - 1]
    return curve


def shifted(samples: npt.NDArray[np.floating], offset: float) -> npt.NDArray[np.float64]:
    """Return samples as they would be had they been taken a part of a sample later.

    Parameters
    ----------
    samples : ndarray, shape (n, channels), n >= 1
        Not changed. Beyond its ends the signal is taken to stay at its end values.
    offset : float
        From −1 to 1, in samples.
    """
    if offset == 0:
        return samples.astype(np.float64)
    held = np.pad(samples.astype(np.float64), ((_HALF_WIDTH, _HALF_WIDTH), (0, 0)), "edge")
    weights = _sinc(np.arange(-_HALF_WIDTH, _HALF_WIDTH + 1, dtype=np.float64) - offset)
    neighbours = np.lib.stride_tricks.sliding_window_view(held, 2 * _HALF_WIDTH + 1, axis=0)
    return np.asarray(neighbours @ (weights / weights.sum()))


def _sinc(distance: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return the weights of samples at some distance from a point."""
    window = np.i0(_KAISER_BETA * np.sqrt(np.maximum(0.0, 1 - (distance / _HALF_WIDTH) ** 2))) / np.i0(_KAISER_BETA)
    return np.asarray(np.sinc(distance) * window)


@lru_cache(maxsize=64)
def _kernels(oversampling: int) -> npt.NDArray[np.float64]:
    """Return the weights of the neighbours for each point between two samples, shape ``(taps, oversampling - 1)``."""
    taps = np.arange(-_HALF_WIDTH + 1, _HALF_WIDTH + 1)[:, np.newaxis]
    distance = taps - np.arange(1, oversampling) / oversampling
    kernels = _sinc(distance)
    return np.asarray(kernels / kernels.sum(axis=0))
