"""De-ess: consonants that are brighter than the same voice's usually are come down to these, all along."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt

from umbrick.core.course.step import Profile
from umbrick.core.course.treatment import COMMON, Block, Treatment, Wave
from umbrick.core.errors import ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source
from umbrick.core.spectral.evening import evened_power
from umbrick.core.spectral.grid import Grid, powers_of, size_for

Single = npt.NDArray[np.float32]

_SECONDS = 0.012
_LOW_HZ, _LOWEST_HZ = 2500.0, 100.0
_BRIGHT, _FAINT_DB = 2.0, -20.0
_FEWEST = 40
_BLOCK_FRAMES = 1 << 19
_TINY = np.float32(1e-20)
_REACH = 1


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block whose bright windows are no stronger, line by line, than the voice's usually are.

    Notes
    -----
    A gain for every window and line, at most 1, evened out over a third of an octave; for all channels the same. It is
    the mean of those of the windows before, here and after, so that no window stands out.
    """
    grid = _grid(block.rate)
    begin, start = block.start - block.before, block.start
    stop = start + len(block.own)
    first, last = grid.over(start, stop)
    waves = np.ascontiguousarray(block.samples.T, np.float32)
    spectra = [grid.spectra(wave, begin, first - _REACH, last + _REACH) for wave in waves]
    power = np.max([powers_of(own) for own in spectra], axis=0)
    hz = _hz(grid, block.rate)
    own_db = np.array(profile["levels_db"], np.float32) + np.float32(settings["threshold_db"])
    high = hz >= _LOW_HZ
    excess_db = 10 * np.log10(evened_power(power, hz)[:, high] + _TINY) - own_db
    taken_db = np.clip(excess_db, 0, np.float32(settings["amount_db"])) * _is_bright(power, hz)[:, np.newaxis]
    taken_db = (taken_db[:-2] + 2 * taken_db[1:-1] + taken_db[2:]) / 4
    gain = np.ones((len(taken_db), len(hz)), np.float32)
    gain[:, high] = 10 ** (-taken_db / 20)
    made = [grid.sound(own[_REACH:-_REACH] * gain, first, start, stop) for own in spectra]
    return np.stack(made, axis=1).astype(np.float64)


def _is_bright(power: Single, hz: npt.NDArray[np.float64]) -> npt.NDArray[np.bool_]:
    high = power[:, hz >= _LOW_HZ].sum(axis=1)
    low = power[:, (hz >= _LOWEST_HZ) & (hz < _LOW_HZ)].sum(axis=1)
    made: npt.NDArray[np.bool_] = high > _BRIGHT * low
    return made


def _grid(rate: int) -> Grid:
    return Grid(size_for(_SECONDS, rate))


def _hz(grid: Grid, rate: int) -> npt.NDArray[np.float64]:
    return np.arange(grid.size // 2 + 1) * rate / grid.size


def context(settings: Parameters, profile: Profile, rate: int) -> int:
    """Return the windows that the gain is a mean of."""
    grid = _grid(rate)
    return grid.size + _REACH * grid.hop


def learn(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Profile:
    """Return how strong each high line is in the mean of the bright windows that are not faint.

    ParameterError if the rate leaves no room for sibilance, or there are no bright consonants.
    """
    if sound.rate / 2 <= _LOW_HZ:
        raise ParameterError("A recording at this rate holds no sibilance.")
    grid = _grid(sound.rate)
    hz = _hz(grid, sound.rate)
    high = hz >= _LOW_HZ
    found: list[Single] = []
    for start, stop in blocks_of(spans, _BLOCK_FRAMES, progress, is_cancelled):
        first, last = grid.inside(start, stop)
        if last == first:
            continue
        block = sound.read(start, stop)
        for channel in channels:
            spectra = grid.spectra(np.ascontiguousarray(block[:, channel]), start, first, last)
            power = powers_of(spectra)
            bright = power[_is_bright(power, hz)]
            level = bright[:, high].sum(axis=1)
            # Of every block the strongest are kept: enough to tell the mean of them all.
            found.append(bright[np.argsort(level)[-4 * _FEWEST :]])
    together = np.concatenate([np.zeros((0, len(hz)), np.float32), *found])
    level = together[:, high].sum(axis=1)
    loud = np.zeros(len(level), bool)
    if len(level):
        # The strongest are the sharp ones themselves.
        strong = np.percentile(level, 90)
        loud = (level > 10 ** (_FAINT_DB / 10) * strong) & (level <= strong)
    if loud.sum() < _FEWEST:
        raise ParameterError("There are no bright consonants here to tell a sharp one from.")
    mean = evened_power(together[loud].mean(axis=0, dtype=np.float64), hz)[high]
    return {"rate": sound.rate, "levels_db": np.round(10 * np.log10(mean + 1e-20), 1).tolist()}


def is_profile(profile: Profile, channels: int) -> bool:
    """Return whether this says how strong every high line usually is."""
    if set(profile) != {"rate", "levels_db"} or type(profile["rate"]) is not int:
        return False
    rate, levels_db = profile["rate"], profile["levels_db"]
    if not 2 * _LOW_HZ < rate <= 1 << 20 or not isinstance(levels_db, list):
        return False
    lines = int(np.count_nonzero(_hz(_grid(rate), rate) >= _LOW_HZ))
    return len(levels_db) == lines and all(type(level) is float and abs(level) <= 400 for level in levels_db)


def told(settings: Parameters, profile: Profile) -> str:
    """Return by how much sharp consonants are softened at the most."""
    return f"Sharp consonants −{float(settings['amount_db']):g} dB"


METHOD = Method(
    name="deess",
    title="De-ess",
    summary="Softens consonants that are brighter than this voice's usually are, all along.",
    parameters=(
        Parameter("amount_db", "number", 12.0, "the most by which a high line is lowered", (), "dB", 0.0, 40.0),
        Parameter("threshold_db", "number", 3.0, "by how much a consonant may be over the usual", (), "dB", -12.0,
                  20.0),
        *COMMON,
    ),
    does=Treatment(
        process, context, lambda settings, _: float(settings["amount_db"]) == 0, told, learn, is_profile
    ),
)  # fmt: skip
