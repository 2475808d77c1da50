"""Filling a gap of one lane from the others, which heard the same moment."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import ParameterError
from umbrick.core.linking.foretelling import Mask, Wave, foretold, laid_beside
from umbrick.core.linking.stacked import Stack
from umbrick.core.measure.seam import seam_scores
from umbrick.core.mend.applying import Mended, as_mended
from umbrick.core.mend.filling import bridge
from umbrick.core.mend.making import remade
from umbrick.core.mend.method import Excerpt, Reworked, Stretch
from umbrick.core.mend.place import Place
from umbrick.core.timeline.history import FROM_LANES
from umbrick.core.timeline.patch import Nature

LONGEST_SECONDS = 10.0
_CONTEXT_SECONDS = 1.5
_TAPS = 512
"""Long enough for the first reflections of a room."""
_SHORT_SECONDS = 0.05
_FADE_SECONDS = 0.004
_TELLING = 0.5
"""Of the power beside the gap the others must tell at least so much."""


def filled_from_lanes(
    stack: Stack, start: int, stop: int, channels: tuple[int, ...], is_cancelled: Callable[[], bool] = lambda: False
) -> Mended:
    """Return the first lane of a stack with a gap filled from the others.

    Gaps that can be bridged are bridged with what the others tell as further opinions; longer ones are what they tell,
    crossed over at both ends.

    Parameters
    ----------
    stack : Stack
        The lane with the gap, first.
    start, stop : int
        The gap, in frames of the first lane's version.
    channels : tuple of int
        Channels of the first lane.
    is_cancelled : callable

    Raises
    ------
    ParameterError
        If the others have no sound there, or tell too little of it.
    CancelledError
        If ``is_cancelled`` says so.
    """
    version, rate = stack.lanes[0].version, stack.rate
    context = round(_CONTEXT_SECONDS * rate)
    begin, end = start - stack.start, stop - stack.start
    if begin < 0 or end > stack.frames:
        raise ParameterError("The other recordings have no sound at this place.")
    if stop - start > LONGEST_SECONDS * rate:
        raise ParameterError(f"Up to {LONGEST_SECONDS:.0f} s can be filled from the other recordings.")
    first, last = max(0, begin - context), min(stack.frames, end + context)
    sound = stack.read(first, last).astype(np.float64)
    known = np.ones(len(sound), np.bool_)
    known[begin - first : end - first] = False
    others = [sound[:, channel] for channel in range(stack.channels_of(1).start, stack.channels)]
    told = {channel: _told(sound[:, channel], others, known, rate) for channel in channels}

    def make(present: Wave, at: int) -> Wave:
        return made[at - start : at - start + len(present)]

    made, score = _made(sound, told, known, begin - first, end - first, rate, is_cancelled)
    place = Place(start, stop, channels)
    pieces = remade(version, place, make, Nature.GRAFTED, is_cancelled)
    return as_mended(version, FROM_LANES, [Reworked((Stretch(start, stop, pieces),), place, {}, score)])


def _told(wave: Wave, others: list[Wave], known: Mask, rate: int) -> list[Wave]:
    """Return what others tell of a wave: all of them together, and each alone."""
    laid = [laid_beside(wave, other, known, rate) for other in others]
    together = foretold(wave, laid, known, _TAPS)
    power = float(np.sum(wave[known] ** 2))
    if power <= 0 or float(np.sum((wave - together)[known] ** 2)) > (1 - _TELLING) * power:
        raise ParameterError(
            "The other recordings sound too different here to fill it from them.", "Bridge it from both sides."
        )
    return [together, *laid]


def _made(
    sound: Wave,
    told: dict[int, list[Wave]],
    known: Mask,
    begin: int,
    end: int,
    rate: int,
    is_cancelled: Callable[[], bool],
) -> tuple[npt.NDArray[np.float64], float]:
    """Return the gap of each channel, shape ``(frames, channels)``, and its seam score."""
    is_short = end - begin <= bridge.LONGEST_SECONDS * rate
    fill = partial(_bridged, is_cancelled=is_cancelled) if is_short else _crossed
    columns = [fill(sound[:, channel], others, known, begin, end, rate) for channel, others in told.items()]
    whole = sound[:, list(told)].copy()
    whole[begin:end] = np.stack(columns, axis=1)
    changed = np.repeat(~known[:, np.newaxis], len(columns), axis=1)
    score = min(seam_scores(whole, changed, np.array([begin]), np.array([end]), rate))
    return whole[begin:end], score


def _bridged(
    wave: Wave, others: list[Wave], known: Mask, begin: int, end: int, rate: int, is_cancelled: Callable[[], bool]
) -> Wave:
    if end - begin > _SHORT_SECONDS * rate:
        # The other opinions hardly count against so much sound foretold, and would take seconds to hear.
        rest = (wave - others[0])[:, np.newaxis]
        excerpt = Excerpt(rest.astype(np.float32), rate, ~known[:, np.newaxis], ~known[:, np.newaxis])
        return np.asarray(others[0] + bridge.rebuild(excerpt, {"using": "prediction"}, is_cancelled)[:, 0])[begin:end]
    samples = np.stack([wave, *others], axis=1).astype(np.float32)
    target = np.zeros(samples.shape, np.bool_)
    target[begin:end, 0] = True
    excerpt = Excerpt(samples, rate, target, target)
    return np.asarray(bridge.rebuild(excerpt, {"using": "donors"}, is_cancelled)[begin:end, 0])


def _crossed(wave: Wave, others: list[Wave], known: Mask, begin: int, end: int, rate: int) -> Wave:
    """Return what all others tell together, levelled into both sides by what it is off by there."""
    told = others[0]
    fade = min(round(_FADE_SECONDS * rate), (end - begin) // 2)
    ramp = 0.5 * (1 + np.cos(np.pi * (np.arange(fade) + 0.5) / fade))
    made = told[begin:end].copy()
    made[:fade] += ramp * (wave[begin - 1] - told[begin - 1] if begin else 0.0)
    made[-fade:] += ramp[::-1] * (wave[end] - told[end] if end < len(wave) else 0.0)
    return made
