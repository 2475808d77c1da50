"""Declipping by consensus: several ways rebuild the sound, each is wrong in its own way, and their mean is less so."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
from scipy.ndimage import maximum_filter1d

from umbrick.core.mend.declipping import known_samples as trial
from umbrick.core.mend.declipping import prediction, sparse
from umbrick.core.model.bounds import Bounds, Mask, Wave
from umbrick.core.model.tight_frame import steadiness, window_length

_OTHER_FRAMES_SECONDS = (0.043, 0.17)
"""Lengths of frames besides those that are best alone: short ones suit what is struck, long ones what is held."""

_LIGHT_SHARE = 0.12
"""Up to this share the errors of frames of all lengths are much the same, but in held tones: one length does."""

_ORDER = 512
_SINGLE_SHARE = 0.004
"""Up to this share of clipped samples the gaps are so short that prediction alone rebuilds them, and much faster."""


class _Weights(NamedTuple):
    """How much each way counts: whole tones, lasting tones, and prediction started from both."""

    whole: float
    lasting: float
    prediction: float

    def towards(self, other: _Weights, share: np.float64) -> _Weights:
        return _Weights(*(float((1 - share) * mine + share * its) for mine, its in zip(self, other, strict=True)))


_RESTLESS = _Weights(0.2, 0.1, 0.7), _Weights(0.45, 0.1, 0.45)
_STEADY = _Weights(0.1, 0.65, 0.25), _Weights(0.2, 0.5, 0.3)
"""Weights where little and where much is clipped, for speech and drums and for held tones."""

_STEADY_FROM = (0.80, 0.92)
_DEPTH_FROM = (0.1, 0.5)
_NO_LASTING_FROM = (0.55, 0.7)


def rebuild(wave: Wave, clipped: Mask, rate: int, is_cancelled: Callable[[], bool] = lambda: False) -> Wave:
    """Return the wave with its clipped samples as several ways agree on them, at or beyond the rail.

    The sparse spectrum is sought in frames of three lengths (one where little is clipped of what is not held), with
    tones that are whole and with tones that last, which count the more the steadier the sound is; their mean is the
    start of one pass of consistent linear prediction, whose result counts too. Where little is clipped, two looks tell
    whether prediction alone is right, and how high it may rise (``known_samples``).

    Parameters
    ----------
    wave : ndarray, shape (n,)
        Not changed.
    clipped : ndarray of bool, shape (n,)
        Samples that stand on a rail. Others come back unchanged.
    rate : int
        Samples a second.
    is_cancelled : callable
        CancelledError is raised soon after it says so.

    Notes
    -----
    That the mean of estimates whose errors differ is nearer to the truth than each is the bias-variance argument for
    averaging (L. Breiman, "Bagging predictors", 1996). The bounds are convex, so a mean of consistent sounds is
    consistent. The weights were found on planted clipping and are ours.
    """
    if clipped.mean() <= _SINGLE_SHARE:
        return prediction.rebuild(wave, clipped, is_cancelled=is_cancelled)
    # A mean of the same sample several times may differ from it in its last bit.
    return Bounds.of(wave, clipped).applied(_agreed(wave, clipped, rate, is_cancelled))


def _agreed(wave: Wave, clipped: Mask, rate: int, is_cancelled: Callable[[], bool]) -> Wave:
    share = _local_share(clipped, rate)
    first = sparse.rebuild(wave, clipped, rate, is_cancelled=is_cancelled)
    steady = steadiness(first, rate)
    weights = _weights(share, steady)
    is_held = steady > _STEADY_FROM[0]
    lengths = _OTHER_FRAMES_SECONDS if share > _LIGHT_SHARE or is_held else ()

    def sparsest(lengths: Sequence[float], lasting: bool) -> list[Wave]:
        return [sparse.rebuild(wave, clipped, rate, length, lasting, first, is_cancelled) for length in lengths]

    start = whole = _mean([first, *sparsest(lengths, False)])
    if weights.lasting > 0:
        # What is not held hardly listens to lasting tones: one length will do.
        lasting = _mean(sparsest((sparse.FRAME_SECONDS, *(lengths if is_held else ())), True))
        start = (weights.whole * whole + weights.lasting * lasting) / (weights.whole + weights.lasting)
    refined = prediction.rebuild(wave, clipped, start=start, order=_ORDER, sweeps=1, is_cancelled=is_cancelled)
    agreed = np.asarray((1 - weights.prediction) * start + weights.prediction * refined)
    if share > trial.TRIED_SHARE:
        return agreed
    trust, height, foretells = trial.trial(wave, clipped, share, rate, is_cancelled)
    if trust > 0:
        predicted = prediction.rebuild(wave, clipped, is_cancelled=is_cancelled)
        agreed = (1 - trust) * agreed + trust * predicted
    agreed = wave + height * (agreed - wave)
    if foretells:
        settled, sure = trial.repeated(wave, clipped, start, refined, is_cancelled)
        agreed = (1 - sure) * agreed + sure * settled
    return agreed


def _local_share(clipped: Mask, rate: int) -> float:
    """Return the share of clipped samples among those within a frame's reach of any."""
    reach = window_length(sparse.FRAME_SECONDS, rate)
    near = maximum_filter1d(clipped.astype(np.uint8), 2 * reach + 1)
    return float(clipped.sum() / max(1, np.count_nonzero(near)))


def _mean(waves: Sequence[Wave]) -> Wave:
    return np.asarray(np.mean(waves, axis=0))


def _weights(share: float, steady: float) -> _Weights:
    depth, held = np.interp(share, _DEPTH_FROM, (0, 1)), np.interp(steady, _STEADY_FROM, (0, 1))
    weights = _RESTLESS[0].towards(_RESTLESS[1], depth).towards(_STEADY[0].towards(_STEADY[1], depth), held)
    # Tones that are cut off most of the time are taken for quieter ones when they are weighed with their neighbours.
    lost = weights.lasting * float(np.interp(share, _NO_LASTING_FROM, (0, 1)))
    return weights._replace(whole=weights.whole + lost, lasting=weights.lasting - lost)
