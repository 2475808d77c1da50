"""Room tone: more of the sound that a pause is made of."""

from __future__ import annotations

import numpy as np

from umbrick.core.errors import ParameterError
from umbrick.core.measure.pauses import nearest_pause
from umbrick.core.mend.cutting.crossfade import Wave, rising
from umbrick.core.sound.source import Source

_GRAIN_SECONDS = 0.12
_SEED = 20131
_LONG_FRAMES = 1 << 22
"""From here on the tone is made in single precision: it is noise, and there may be an hour of it."""


def room_tone_near(source: Source, position: int, frames: int, spared: tuple[int, int] = (0, 0)) -> Wave:
    """Return so many frames of room tone, made from the pause nearest to a place; shape ``(frames, channels)``.

    ``spared`` is a span that must be no part of that pause.

    Raises
    ------
    ParameterError
        If there is no pause within twenty seconds.
    """
    pause = nearest_pause(source, position, spared)
    if pause is None:
        raise ParameterError("There is no pause within twenty seconds to take room tone from.")
    return room_tone(source.read(*pause).astype(np.float64), frames, source.rate)


def room_tone(pause: Wave, frames: int, rate: int) -> Wave:
    """Return so many frames made of overlapping grains from random places of a pause.

    Grains are joined at equal power, as unrelated noise must be; the same pause gives the same tone. After the grain
    resampling of concatenative synthesis (D. Schwarz, 2006), without any matching: room tone has nothing to match.
    """
    grain = min(round(_GRAIN_SECONDS * rate), len(pause))
    hop = max(1, grain // 2)
    gain = np.ones((grain, 1))
    gain[: grain - hop] = rising(grain - hop, "equal_power")
    gain[hop:] *= rising(grain - hop, "equal_power")[::-1]
    random = np.random.default_rng(_SEED)
    made = np.zeros((frames + 2 * grain, pause.shape[1]), np.float32 if frames > _LONG_FRAMES else np.float64)
    for at in range(0, frames + grain, hop):
        start = int(random.integers(0, len(pause) - grain + 1))
        made[at : at + grain] += pause[start : start + grain] * gain
    return made[grain : grain + frames]
