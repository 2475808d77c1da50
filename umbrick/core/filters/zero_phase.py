"""Filters without delay or phase: a symmetric kernel that has a wanted response, and sound convolved with it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import scipy.fft

from umbrick.core.filters.recursive import Sections

Wave = npt.NDArray[np.float64]

_DECAY = 1e-6
"""A kernel ends where it has fallen to this: −120 dB."""

_SHORTEST, _LONGEST = 256, 1 << 18
_SHARPEST = 1 - 1e-9


def kernel_frames(sections: Sections) -> int:
    """Return how many frames on either side a kernel with the magnitude of sections needs: as long as they ring."""
    radius = min(_SHARPEST, max((float(np.abs(np.roots(section[3:])).max()) for section in sections), default=0.0))
    ringing = np.log(_DECAY) / np.log(radius) if radius > 0 else 0
    return int(min(_LONGEST, max(_SHORTEST, np.ceil(ringing))))


def kernel_of(response: Wave, reach: int) -> Wave:
    """Return the symmetric kernel of a response, ``reach`` frames on either side.

    Parameters
    ----------
    response : ndarray
        Real, at evenly spaced frequencies from 0 to half the rate; fine enough that its kernel dies away within.
    reach : int
        Where it ends. What has not died away by then is faded out over the last quarter, so that a filter too sharp
        for that comes out a little less sharp, not wrong elsewhere.
    """
    half = np.fft.irfft(response)[: reach + 1]
    kernel = np.concatenate([half[:0:-1], half])
    if reach == _LONGEST:
        fade = 0.5 - 0.5 * np.cos(np.pi * np.arange(reach // 4) / (reach // 4))
        kernel[: len(fade)] *= fade
        kernel[-len(fade) :] *= fade[::-1]
    return kernel


def spectrum_for(kernel: Wave, frames: int) -> Wave:
    """Return the spectrum of a symmetric kernel for blocks of so many frames, all that is around them included."""
    size = scipy.fft.next_fast_len(frames, real=True)
    reach = len(kernel) // 2
    padded = np.zeros(size)
    padded[: reach + 1] = kernel[reach:]
    padded[size - reach :] = kernel[:reach]
    return np.asarray(scipy.fft.rfft(padded).real)


def convolved(samples: Wave, spectrum: Wave, reach: int) -> Wave:
    """Return sound of shape ``(frames, channels)`` convolved with a kernel, without ``reach`` frames at either end."""
    size = scipy.fft.next_fast_len(len(samples), real=True)
    waves = np.ascontiguousarray(samples.T)
    made = scipy.fft.irfft(scipy.fft.rfft(waves, size) * spectrum, size)
    return np.asarray(made[:, reach : len(samples) - reach].T)
