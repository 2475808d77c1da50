"""The textbook sparse declipper, frame by frame, beside which ours is measured."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, rfft
from scipy.signal import get_window

from umbrick.core.model.bounds import Bounds, Mask, Wave

_FRAME_SECONDS = 0.085
_HOPS = 4
_TOLERANCE = 0.1
_BATCH = 24

_Frames = npt.NDArray[np.float32]


def rebuild(wave: Wave, clipped: Mask, rate: int) -> Wave:
    """Return the wave with its clipped samples from the sparsest spectrum of each frame, which are added up.

    Frames (Hann, overlapping by three quarters) are solved one by one, in a Fourier frame of twice their length, until
    sound and sparse spectrum differ by a tenth, the Euclidean norm of a frame at full scale.

    References
    ----------
    S. Kitić, N. Bertin, R. Gribonval, "Sparsity and cosparsity for audio declipping: a flexible non-convex approach",
    2015 (the analysis variant), with the one-step projection of P. Záviška, P. Rajmic, O. Mokrý, Z. Průša,
    "A proper version of synthesis-based sparse audio declipper", 2019. That the number of tones grows by a share of
    itself, not by one, saves time.
    """
    bounds = Bounds.of(wave, clipped)
    length = 1 << round(np.log2(rate * _FRAME_SECONDS))
    hop = length // _HOPS
    window = get_window("hann", length).astype(np.float32)
    scale = float(np.abs(wave).max()) or 1.0
    before = length - hop
    count = (len(wave) + before - 1) // hop + 1
    total = count * hop + length
    padded = np.zeros(total, np.float32)
    padded[before : before + len(wave)] = wave / scale
    damaged = np.zeros(total, np.bool_)
    damaged[before : before + len(wave)] = clipped
    frames = np.lib.stride_tricks.sliding_window_view(padded, length)[::hop]
    masks = np.lib.stride_tricks.sliding_window_view(damaged, length)[::hop]
    todo = np.flatnonzero(masks.any(axis=1))
    sums = np.zeros(total, np.float64)
    for first in range(0, len(todo), _BATCH):
        chosen = todo[first : first + _BATCH]
        rebuilt = _rebuild_frames(frames[chosen] * window, masks[chosen])
        for index, frame in zip(chosen, rebuilt, strict=True):
            sums[index * hop : index * hop + length] += frame * window
    # A clipped sample lies in every frame that covers it, so the windows' squares add up to the same everywhere.
    norm = float(np.sum(window.astype(np.float64) ** 2)) / hop
    rebuilt_wave = sums[before : before + len(wave)] * (scale / norm)
    return np.where(clipped, bounds.applied(rebuilt_wave), wave)


def _rebuild_frames(frames: _Frames, masks: npt.NDArray[np.bool_]) -> _Frames:
    length = frames.shape[1]
    size = 2 * length
    low = np.where(masks & (frames < 0), np.float32(-np.inf), frames)
    high = np.where(masks & (frames >= 0), np.float32(np.inf), frames)
    result = frames.copy()
    active = np.arange(len(frames))
    sound = frames.copy()
    spectrum = rfft(sound, size, norm="ortho")
    drift = np.zeros_like(spectrum)
    tones = 1
    while len(active):
        wanted = spectrum + drift
        power = wanted.real**2 + wanted.imag**2
        kept = min(tones, power.shape[1])
        least = np.partition(power, power.shape[1] - kept, axis=1)[:, power.shape[1] - kept, np.newaxis]
        sparse = np.where(power >= least, wanted, 0)
        sound = np.clip(irfft(sparse - drift, size, norm="ortho")[:, :length], low, high)
        spectrum = rfft(sound, size, norm="ortho")
        gap = spectrum - sparse
        # Each bin but the first and last stands for two.
        norms = 2 * np.sum(gap.real**2 + gap.imag**2, axis=1)
        done = norms <= _TOLERANCE**2
        if kept == power.shape[1]:
            done[:] = True
        if done.any():
            result[active[done]] = sound[done]
            going = ~done
            active, low, high = active[going], low[going], high[going]
            spectrum, drift, gap = spectrum[going], drift[going], gap[going]
        drift = drift + gap
        tones += max(1, tones // 24)
    return result
