"""Dereverb: what a room adds late is told from what came before it, and lowered."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from umbrick.core.course.step import AMOUNT, Profile
from umbrick.core.course.treatment import COMMON, Block, Treatment, Wave
from umbrick.core.errors import ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.sound.source import Source
from umbrick.core.spectral.grid import powers_of
from umbrick.core.spectral.room import falls_of, late_powers, over_time, rays
from umbrick.core.spectral.weighting import parsed_weighting, weighting_db

Single = npt.NDArray[np.float32]

_EXCESS = 2.0
"""A room holds more than the least that it holds."""

_DRY_DB, _GOES_ON_DB = -22.5, -10.0

_FLOOR = np.float32(0.05)
_TINY = np.float32(1e-20)


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block with what is late in it lowered.

    Notes
    -----
    The power of late reverberation is a share of the power a while before (K. Lebart, J. M. Boucher, P. N. Denbigh,
    2001; E. A. P. Habets, 2007), which gives a gain for every point in time and frequency, for all channels the same.
    What two lengths of window give is averaged: each errs elsewhere.
    """
    begin, start = block.start - block.before, block.start
    stop = start + len(block.own)
    waves = np.ascontiguousarray(block.samples.T, np.float32)
    made = np.zeros((len(waves), stop - start), np.float32)
    every = rays(block.rate)
    for number, one in enumerate(every):
        first, last = one.grid.over(start, stop)
        earliest = first - one.ages[-1] - 1
        spectra = [one.grid.spectra(wave, begin, earliest, last + 1) for wave in waves]
        powers = over_time(np.sum([powers_of(own) for own in spectra], axis=0, dtype=np.float32))
        more = _weights(str(settings["weighting"]), block.rate, number) * np.float32(_EXCESS)
        late = late_powers(one, powers[1:-1], profile["falls_db"][number]) * more
        gain = np.maximum(1 - late / (_over_lines(powers[one.ages[-1] + 1 : -1]) + _TINY), _FLOOR)
        gain *= np.float32(1 / len(every))
        for channel, own in enumerate(spectra):
            made[channel] += one.grid.sound(own[one.ages[-1] + 1 : -1] * gain, first, start, stop)
    return made.T.astype(np.float64)


def _over_lines(powers: Single) -> Single:
    """Return powers, each the mean of itself and those of the lines beside it."""
    beside = np.pad(powers, ((0, 0), (1, 1)), mode="edge")
    made: Single = (beside[:, :-2] + powers + beside[:, 2:]) * np.float32(1 / 3)
    return made


@lru_cache(maxsize=16)
def _weights(text: str, rate: int, number: int) -> Single:
    grid = rays(rate)[number].grid
    hz = np.arange(grid.size // 2 + 1) * rate / grid.size
    made: Single = (10 ** (weighting_db(text, hz) / 10)).astype(np.float32)
    return made


def context(settings: Parameters, profile: Profile, rate: int) -> int:
    """Return how old the oldest is that is still heard, with the windows about it."""
    return max((one.ages[-1] + 2) * one.grid.hop + one.grid.size for one in rays(rate))


def learn(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Profile:
    """Return how fast sound dies away at the least, in every octave.

    ParameterError if there is no room to be heard, or nothing that dies away.
    """
    falls = falls_of(sound, spans, channels, progress, is_cancelled)
    if falls is None:
        raise ParameterError("There is too little sound to tell the room by: it takes some seconds that stand out.")
    if falls.late_db > _GOES_ON_DB:
        raise ParameterError("Nothing dies away here, so that the room cannot be told from the sound.")
    if falls.early_db < _DRY_DB:
        raise ParameterError("There is hardly any room in this: sound is gone as soon as it ends.")
    return {"rate": sound.rate, "falls_db": falls.steep_db, "early_db": falls.early_db, "late_db": falls.late_db}


def is_profile(profile: Profile, channels: int) -> bool:
    """Return whether this says how sound dies away, by length of window, octave and age."""
    if set(profile) != {"rate", "falls_db", "early_db", "late_db"}:
        return False
    if type(profile["rate"]) is not int or not 0 < profile["rate"] <= 1 << 20:
        return False
    if not all(type(profile[name]) is float for name in ("early_db", "late_db")):
        return False
    every, lengths = rays(profile["rate"]), profile["falls_db"]
    return (
        isinstance(lengths, list)
        and len(lengths) == len(every)
        and all(
            isinstance(octaves, list)
            and len(octaves) == len(one.edges)
            and all(isinstance(row, list) and len(row) == len(one.ages) for row in octaves)
            and all(type(fall) is float and -200 <= fall <= 0 for row in octaves for fall in row)
            for one, octaves in zip(every, lengths, strict=True)
        )
    )


def told(settings: Parameters, profile: Profile) -> str:
    """Return how much of the room is lowered."""
    return f"Room, {100 * float(settings[AMOUNT]):.0f} %"


METHOD = Method(
    name="dereverb",
    title="Dereverb",
    summary="Lowers what the room adds late, as far as it is told from what came before.",
    parameters=(
        Parameter(AMOUNT, "number", 0.5, "how much of the late sound is taken: 0 nothing, 1 all but a trace", (), "",
                  0.0, 1.0),
        Parameter("weighting", "curve", "", "where more is taken (+) or spared (−), as HZ:DB HZ:DB", unit="dB",
                  check=parsed_weighting),
        *(parameter for parameter in COMMON if parameter.name != AMOUNT),
    ),
    does=Treatment(process, context, lambda *_: False, told, learn, is_profile),
)  # fmt: skip
