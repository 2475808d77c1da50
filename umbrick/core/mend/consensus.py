"""Declipping by consensus: several ways rebuild the sound, each is wrong in its own way, and their mean is less so."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from scipy.ndimage import maximum_filter1d

from umbrick.core.mend import prediction, sparse
from umbrick.core.model.bounds import Bounds, Mask, Wave
from umbrick.core.model.tight_frame import steadiness, window_length

_FRAMES_SECONDS = (0.043, 0.085, 0.17)
"""Lengths of the sparse method's frames: short ones suit what is struck, long ones what is held."""

_ORDER = 512
_SINGLE_SHARE = 0.004
"""Up to this share of clipped samples the gaps are so short that prediction alone rebuilds them, and much faster."""

_REPEATED_SHARE = 0.12
"""Up to this share, repeating prediction may find the sound exactly."""

_REHEARSED_SHARE = 0.25
"""Up to this share, prediction from the clipped sound alone is given a trial beside the sparse spectrum."""

_LOWER = 0.8
_REHEARSED_SECONDS = 0.6
_FEWEST = 16
_LEAD_DB = (4.0, 8.0)
_GAIN_DB = (9.0, 12.0)

_MOST_SWEEPS = 6
_FASTER_DB = 2.0
_SURE_DB = (45.0, 60.0)


class _Weights(NamedTuple):
    """How much each way counts: whole tones, lasting tones, and prediction started from both."""

    whole: float
    lasting: float
    prediction: float

    def towards(self, other: _Weights, share: float) -> _Weights:
        return _Weights(*((1 - share) * mine + share * its for mine, its in zip(self, other, strict=True)))


_RESTLESS = _Weights(0.2, 0.1, 0.7), _Weights(0.45, 0.1, 0.45)
_STEADY = _Weights(0.1, 0.65, 0.25), _Weights(0.2, 0.5, 0.3)
"""Weights where little and where much is clipped, for speech and drums and for held tones."""

_STEADY_FROM = (0.80, 0.92)
_DEPTH_FROM = (0.1, 0.5)
_NO_LASTING_FROM = (0.55, 0.7)


def rebuild(wave: Wave, clipped: Mask, rate: int, is_cancelled: Callable[[], bool] = lambda: False) -> Wave:
    """Return the wave with its clipped samples as several ways agree on them, at or beyond the rail.

    The sparse spectrum is sought in frames of three lengths, with tones that are whole and, where the sound is steady,
    with tones that last; their mean is the start of one pass of consistent linear prediction, whose result counts
    too. Pulses of many tones at once are no sparse spectrum: where a rehearsal on this sound shows that prediction
    rebuilds it far better, it does. And where little is clipped and prediction, repeated, settles ever faster, the
    sound is exactly predictable (it has no highs, say), and prediction alone is right.

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
    whole = _mean_over_lengths(wave, clipped, rate, False, is_cancelled)
    weights = _weights(share, steadiness(whole, rate))
    start = whole
    if weights.lasting > 0:
        lasting = _mean_over_lengths(wave, clipped, rate, True, is_cancelled)
        start = (weights.whole * whole + weights.lasting * lasting) / (weights.whole + weights.lasting)
    refined = prediction.rebuild(wave, clipped, start=start, order=_ORDER, sweeps=1, is_cancelled=is_cancelled)
    agreed = np.asarray((1 - weights.prediction) * start + weights.prediction * refined)
    if share <= _REHEARSED_SHARE:
        trust = _trust_in_prediction(wave, clipped, rate, is_cancelled)
        if trust > 0:
            predicted = prediction.rebuild(wave, clipped, is_cancelled=is_cancelled)
            agreed = (1 - trust) * agreed + trust * predicted
    if share <= _REPEATED_SHARE:
        settled, sure = _repeated(wave, clipped, start, refined, is_cancelled)
        agreed = (1 - sure) * agreed + sure * settled
    return agreed


def _local_share(clipped: Mask, rate: int) -> float:
    """Return the share of clipped samples among those within a frame's reach of any."""
    reach = window_length(sparse.FRAME_SECONDS, rate)
    near = maximum_filter1d(clipped.astype(np.uint8), 2 * reach + 1)
    return float(clipped.sum() / max(1, np.count_nonzero(near)))


def _mean_over_lengths(wave: Wave, clipped: Mask, rate: int, lasting: bool, is_cancelled: Callable[[], bool]) -> Wave:
    made = [sparse.rebuild(wave, clipped, rate, seconds, lasting, is_cancelled) for seconds in _FRAMES_SECONDS]
    return np.asarray(np.mean(made, axis=0))


def _weights(share: float, steady: float) -> _Weights:
    depth, held = _between(share, _DEPTH_FROM), _between(steady, _STEADY_FROM)
    weights = _RESTLESS[0].towards(_RESTLESS[1], depth).towards(_STEADY[0].towards(_STEADY[1], depth), held)
    # Tones that are cut off most of the time are taken for quieter ones when they are weighed with their neighbours.
    lost = weights.lasting * _between(share, _NO_LASTING_FROM)
    return weights._replace(whole=weights.whole + lost, lasting=weights.lasting - lost)


def _between(value: float, limits: tuple[float, float]) -> float:
    """Return where a value lies between two limits: 0 at the first and before, 1 at the second and beyond."""
    return float(np.clip((value - limits[0]) / (limits[1] - limits[0]), 0.0, 1.0))


def _trust_in_prediction(wave: Wave, clipped: Mask, rate: int, is_cancelled: Callable[[], bool]) -> float:
    """Return how much prediction should count, from 0 to 1, by clipping the sound a little lower still.

    The samples between the two rails are known: prediction and the sparse spectrum are both tried on them.
    """
    start, stop = _most_clipped(clipped, round(_REHEARSED_SECONDS * rate))
    part, known_bad = wave[start:stop], clipped[start:stop]
    high, low = _rail(part[known_bad & (part > 0)]), -_rail(-part[known_bad & (part < 0)])
    lowered = np.clip(part, _LOWER * low, _LOWER * high)
    damaged = known_bad | (lowered != part)
    held_out = damaged & ~known_bad
    if held_out.sum() < _FEWEST or damaged.all():
        return 0.0
    lost = np.square(lowered - part)[held_out].sum()
    by_tones, by_prediction = (
        10 * np.log10(lost / (np.square(made - part)[held_out].sum() + 1e-20))
        for made in (
            sparse.rebuild(lowered, damaged, rate, is_cancelled=is_cancelled),
            prediction.rebuild(lowered, damaged, is_cancelled=is_cancelled),
        )
    )
    return _between(by_prediction - by_tones, _LEAD_DB) * _between(by_prediction, _GAIN_DB)


def _rail(heights: Wave) -> float:
    """Return the lowest of clipped samples' heights; no limit if there are none."""
    return float(heights.min()) if len(heights) else np.inf


def _most_clipped(clipped: Mask, length: int) -> tuple[int, int]:
    """Return the stretch of some length that holds the most clipped samples."""
    if length >= len(clipped):
        return 0, len(clipped)
    counts = np.concatenate([[0], np.cumsum(clipped)])
    start = int(np.argmax(counts[length:] - counts[:-length]))
    return start, start + length


def _repeated(
    wave: Wave, clipped: Mask, start: Wave, refined: Wave, is_cancelled: Callable[[], bool]
) -> tuple[Wave, float]:
    """Return what prediction comes to, and from 0 to 1 how sure that is.

    Only where there is one answer does each pass change far less than the one before.
    """
    settled, before, settling = refined, start, -np.inf
    for _ in range(_MOST_SWEEPS):
        change = float(np.square(settled - before).sum())
        rebuilt = float(np.square(settled - wave).sum())
        smaller = 10 * np.log10((rebuilt + 1e-30) / (change + 1e-30))
        if smaller < settling + _FASTER_DB:
            break
        settling = smaller
        before = settled
        settled = prediction.rebuild(wave, clipped, start=settled, sweeps=1, to_ends=True, is_cancelled=is_cancelled)
    return settled, _between(settling, _SURE_DB)
