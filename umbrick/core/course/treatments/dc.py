"""DC: takes a steady or slowly drifting offset out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache

import numpy as np

from umbrick.core.course.step import Profile
from umbrick.core.course.treatment import COMMON, Block, Treatment
from umbrick.core.filters.zero_phase import Wave, convolved, spectrum_for
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source

_BLOCK_FRAMES = 1 << 18


def learn(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Profile:
    """Return the mean of each channel."""
    total, frames = np.zeros(len(channels)), 0
    for start, stop in blocks_of(spans, _BLOCK_FRAMES, progress, is_cancelled):
        total += sound.read(start, stop)[:, list(channels)].sum(axis=0, dtype=np.float64)
        frames += stop - start
    return {"offset": [float(value) for value in total / max(1, frames)]}


def is_profile(profile: Profile, channels: int) -> bool:
    """Return whether this is an offset for each channel."""
    offset = profile.get("offset")
    return isinstance(offset, list) and len(offset) == channels and all(type(value) is float for value in offset)


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block without its offset: the recording's mean, or the mean of some seconds around each frame."""
    if settings["drift"] == "steady":
        return block.own - np.asarray(profile["offset"])
    drift = convolved(block.samples, _averaging(block.before, len(block.samples)), block.before)
    return block.own - drift


def told(settings: Parameters, profile: Profile) -> str:
    """Return what is taken out."""
    return "DC offset" if settings["drift"] == "steady" else "Drifting DC offset"


def context(settings: Parameters, profile: Profile, rate: int) -> int:
    """Return half the span over which a drifting offset is averaged."""
    return 0 if settings["drift"] == "steady" else round(float(settings["over_s"]) * rate / 2)


@lru_cache(maxsize=4)
def _averaging(reach: int, frames: int) -> Wave:
    window = np.hanning(2 * reach + 3)[1:-1]
    return spectrum_for(window / window.sum(), frames)


METHOD = Method(
    name="dc",
    title="DC offset",
    summary="Takes out an offset, steady or slowly drifting, so that the wave rests at zero.",
    parameters=(
        Parameter("drift", "choice", "steady", "whether the offset is the same throughout", ("steady", "slow")),
        Parameter("over_s", "number", 2.0, "over how long a drifting offset is averaged", (), "s", 0.2, 10.0),
        *COMMON,
    ),
    does=Treatment(process, context, lambda *_: False, told, learn, is_profile, is_quick=True),
)
