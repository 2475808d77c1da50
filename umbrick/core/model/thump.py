"""Thumps: the slow swing that a big click sets going, in a pickup's arm or a diaphragm, and that rings on after it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import scipy
from scipy.linalg import lstsq

from umbrick.core.model.autoregression import modelled
from umbrick.core.model.bounds import Wave

CONTEXT_SECONDS = 1.0
"""Sound before a click that tells what lies under its thump."""

_LOW_RATE = 2000
_ORDER = 40
_FEWEST_BEFORE, _FEWEST_AFTER = 240, 80
_HERTZ = np.geomspace(6.0, 160.0, 34)
_DECAY_SECONDS = np.geomspace(0.006, 0.16, 10)
_MOST_SWINGS = 3
_UNLIKELY = 60.0
"""So many times the power of the error of prediction a swing must explain to be believed: by chance the best of some
hundreds explains about twenty."""

_EARLY_SECONDS, _DEEP_HERTZ, _LEFT = 0.15, 150.0, 0.6
"""A thump is most of what is there so low at first: if taking it out leaves more than this share, it is none."""

_FADE_SHARE = 0.2


def thump(wave: Wave, at: int, rate: int, length: int) -> npt.NDArray[np.float64] | None:
    """Return the thump that begins at a click, or None if there is none.

    It is a sum of a few decaying swings below 160 Hz, chosen one by one (matching pursuit) so that what they leave is
    what a linear predictor of the sound before the click expects: bass that sounds on is no thump.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        The click itself mended. At least an eighth of a second before it and a twentieth after it; up to
        ``CONTEXT_SECONDS`` before it are used.
    at : int
        Where the click begins.
    rate : int
        Samples a second.
    length : int
        Samples after the click in which the thump is heard.

    Returns
    -------
    ndarray, shape (m,)
        What to subtract from ``at`` on, of that length or up to the end of the wave.

    References
    ----------
    The thump as a second process under the sound: S. J. Godsill, C. H. Tan, "Removal of low frequency transient noise
    from old recordings using model-based signal separation techniques", 1997. S. Mallat, Z. Zhang, "Matching pursuits
    with time-frequency dictionaries", 1993.
    """
    step = max(1, rate // _LOW_RATE)
    frames = min(len(wave) - at, length)
    first = max(0, at - round(CONTEXT_SECONDS * rate))
    first = at - (at - first) // step * step
    low_rate = rate / step
    low = scipy.signal.resample_poly(wave[first : at + frames], 1, step)
    begin = (at - first) // step
    before, after = low[:begin], low[begin:]
    if len(before) < _FEWEST_BEFORE or len(after) < _FEWEST_AFTER:
        return None
    model = modelled(before, _ORDER)
    if model is None:
        return None
    expected = np.convolve(low, model.error_filter)[begin : begin + len(after)]
    time = np.arange(len(after)) / low_rate
    swings = _swings(time, range(len(_HERTZ) * len(_DECAY_SECONDS)))
    heard = scipy.signal.lfilter(model.error_filter, 1.0, swings, axis=-1)
    chosen = _pursued(expected, heard, _UNLIKELY * model.error_power)
    if not chosen:
        return None
    basis = heard[chosen].reshape(-1, len(after))
    weights = lstsq(basis.T, expected, check_finite=False)[0]
    deep = scipy.signal.butter(2, _DEEP_HERTZ, fs=low_rate, output="sos")
    there, left = (
        scipy.signal.sosfiltfilt(deep, one) for one in (after, after - weights @ swings[chosen].reshape(-1, len(after)))
    )
    early = slice(0, round(_EARLY_SECONDS * low_rate))
    if np.square(left[early]).sum() > _LEFT * np.square(there[early]).sum():
        return None
    made = weights @ _swings(np.arange(frames) / rate, chosen).reshape(-1, frames)
    fade = round(_FADE_SHARE * frames)
    made[frames - fade :] *= np.cos(np.linspace(0, np.pi / 2, fade)) ** 2
    return np.asarray(made)


def _swings(time: Wave, chosen: Sequence[int]) -> npt.NDArray[np.float64]:
    """Return decaying swings, by their number, as cosine and sine: shape ``(len(chosen), 2, len(time))``."""
    hertz, seconds = np.divmod(np.asarray(chosen), len(_DECAY_SECONDS))
    turns = 2 * np.pi * _HERTZ[hertz, np.newaxis] * time
    decay = np.exp(-time / _DECAY_SECONDS[seconds, np.newaxis])
    return np.stack([np.cos(turns) * decay, np.sin(turns) * decay], axis=1)


def _pursued(expected: Wave, heard: npt.NDArray[np.float64], least: float) -> list[int]:
    """Return the swings that explain the most, one after the other, as long as each explains at least so much."""
    chosen: list[int] = []
    left = expected
    grams = heard @ heard.transpose(0, 2, 1)
    grams += np.eye(2) * (1e-9 * np.trace(grams, axis1=1, axis2=2)[:, np.newaxis, np.newaxis] + 1e-30)
    for _ in range(_MOST_SWINGS):
        products = heard @ left
        explained = (products * np.linalg.solve(grams, products[..., np.newaxis])[..., 0]).sum(axis=1)
        explained[chosen] = 0
        best = int(np.argmax(explained))
        if explained[best] < least:
            break
        chosen.append(best)
        basis = heard[chosen].reshape(-1, len(expected))
        left = expected - lstsq(basis.T, expected, check_finite=False)[0] @ basis
    return chosen
