"""Denoise: steady noise is lowered where, in time and frequency, there is little else."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.course.step import Profile
from umbrick.core.course.treatment import COMMON, Block, Treatment, Wave
from umbrick.core.errors import ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters, band_of
from umbrick.core.sound.source import Source
from umbrick.core.spectral.grid import Grid, Spectra, powers_of, size_for
from umbrick.core.spectral.noise_drift import drift_at, noise_drift
from umbrick.core.spectral.noise_print import FINEST_SECONDS, estimated_print, is_print, line_powers, measured_print
from umbrick.core.spectral.prints import ADAPTIVE, parsed_print
from umbrick.core.spectral.weighting import parsed_weighting, weighting_db

Single = npt.NDArray[np.float32]

_SECONDS = (0.023, 0.046, 0.093, FINEST_SECONDS)
_SHARES_LOW, _SHARES_HIGH = (0.0, 1 / 3, 1 / 3, 1 / 3), (1 / 3, 1 / 3, 1 / 3, 0.0)
_LOW_HZ, _HIGH_HZ = 400.0, 1600.0
"""What share each length of window has below and above: long ones for tones, short ones for attacks."""

_PILOTS = 1, 2
"""Which of them give the pilot."""

_REACH = 2
"""Powers are averaged over up to so many windows on either side, and lines: five windows, as along a tone, three by
three about a point, and three by five."""

_LEAST_EXCESS, _MOST_EXCESS = 1.2, 2.4
_FAINTEST_POWER = 1e-14
_SMALLEST = np.float32(1e-6)
_EDGE_OCTAVES = 1 / 6


class _Resolution(NamedTuple):
    """One length of window: how many of its lines have a share in the result, from the lowest on, and which."""

    grid: Grid
    lines: int
    shares: Single


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block with its noise lowered.

    Notes
    -----
    Twice, with windows of several lengths. First the power in neighbourhoods of every point in time and frequency,
    against the print's, tells how much of it is sound (attenuation by blocks: G. Yu, S. Mallat, E. Bacry, 2008); what
    comes of that then tells the power of the sound at every single point, which gives the gain of a Wiener filter. What
    windows of different lengths give is averaged: each errs elsewhere.
    """
    resolutions = _resolutions(block.rate)
    begin, start = block.start - block.before, block.start
    stop = start + len(block.own)
    longest = resolutions[-1].grid.size
    before, after = _held_frames(settings, block.rate)
    around = start - longest - after, stop + longest + before
    noise = _noise_powers(settings, profile, block.rate)
    drift_db = profile.get("drift_db", ()) if settings["follows"] == "level" else ()
    waves = np.ascontiguousarray(block.samples.T, np.float32)
    excess = _LEAST_EXCESS + (_MOST_EXCESS - _LEAST_EXCESS) * float(settings["smoothing"])
    pilots = np.zeros((len(waves), around[1] - around[0]), np.float32)
    for one, number in zip(_piloting(block.rate), _PILOTS, strict=True):
        first, last = one.grid.over(*around)
        for channel, wave in enumerate(waves):
            spectra = one.grid.spectra(wave, begin, first - _REACH, last + _REACH)
            louder = _drift(drift_db, one.grid, first - _REACH, last + _REACH, block.rate)
            piloted = _piloted(one, spectra, noise[channel][number][: one.lines], louder, excess)
            pilots[channel] += one.grid.sound(piloted, first, *around)
    floor = np.float32(10 ** (-float(settings["reduction_db"]) / 20))
    band = _band_shares(str(settings["band_hz"]), block.rate)
    made = np.zeros((len(waves), stop - start), np.float32)
    for number, one in enumerate(resolutions):
        first, last = one.grid.over(start, stop)
        early, late = (frames // one.grid.hop for frames in (after, before))
        louder = _drift(drift_db, one.grid, first - early, last + late, block.rate)
        gains = [
            _wiener(one, pilot, around[0], first - early, last + late, own[number][: one.lines] * louder)
            for pilot, own in zip(pilots, noise, strict=True)
        ]
        if early or late:
            gains = [_held(gain, early, late, floor) for gain in gains]
        if settings["channels"] == "together":
            gains = [np.maximum.reduce(gains)] * len(gains)
        for channel, gain in enumerate(gains):
            spectra = one.grid.spectra(waves[channel], begin, first, last)
            gain = 1 - band[number] * (1 - np.maximum(gain, floor))
            made[channel] += one.grid.sound(_weighted(spectra, gain, one), first, start, stop)
    return made.T.astype(np.float64)


def _drift(drift_db: Sequence[float], grid: Grid, first: int, last: int, rate: int) -> Single:
    """Return by what factor noise is louder than its print in some windows, shape ``(windows, 1)``."""
    middles = (np.arange(first, last) * grid.hop + grid.size / 2) / rate
    made: Single = (10 ** (drift_at(drift_db, middles) / 10)).astype(np.float32)[:, np.newaxis]
    return made


def _piloted(one: _Resolution, spectra: Spectra, powers: Single, louder: Single, excess: float) -> Spectra:
    """Return spectra, without the first and last few, as neighbourhoods let them through."""
    over = _powers(spectra, one) / (powers * louder)
    three = over[:-2] + over[1:-1] + over[2:]
    five = three[:-2] + over[3:-1] + over[4:]
    beside = np.pad(three[1:-1], ((0, 0), (2, 2)), mode="edge")
    about = beside[:, 1:-3] + beside[:, 2:-2] + beside[:, 3:-1]
    along = about + beside[:, :-4] + beside[:, 4:]
    gain: Single = np.zeros(five.shape, np.float32)
    for total, count in ((five, 5), (about, 9), (along, 15)):
        gain += np.maximum(0, 1 - np.float32(excess * count) / np.maximum(total, _SMALLEST))
    gain *= np.float32(1 / 3)
    return _weighted(spectra[_REACH : len(spectra) - _REACH], gain, one)


def _wiener(one: _Resolution, pilot: Single, at: int, first: int, last: int, powers: Single) -> Single:
    """Return the gains that a pilot gives windows."""
    sound = _powers(one.grid.spectra(pilot, at, first, last), one)
    made: Single = sound / (sound + powers)
    return made


def _held_frames(settings: Parameters, rate: int) -> tuple[int, int]:
    """Return how long before sound gains open, and how long after it they close."""
    before, after = (round(float(settings[name]) * rate / 1000) for name in ("attack_ms", "release_ms"))
    return before, after


def _held(gain: Single, early: int, late: int, floor: np.float32) -> Single:
    """Return the gains of windows, without the first and last few, as they open before sound and close after it.

    A gain falls by the whole reduction, in even steps of dB, in as many windows as lie before, or after.
    """
    count = len(gain) - early - late
    made = gain[early : early + count].copy()
    for way, windows in ((-1, early), (1, late)):
        for away in range(1, windows + 1):
            there = gain[early + way * away : early + way * away + count]
            np.maximum(made, there * floor ** np.float32(away / windows), out=made)
    return made


def _weighted(spectra: Spectra, gain: Single, one: _Resolution) -> Spectra:
    """Return spectra with a gain and the shares of the lines; the lines without a share are nought."""
    made = np.zeros_like(spectra)
    np.multiply(spectra[:, : one.lines], gain * one.shares, out=made[:, : one.lines])
    return made


def _powers(spectra: Spectra, one: _Resolution) -> Single:
    return powers_of(spectra[:, : one.lines])


@lru_cache(maxsize=8)
def _resolutions(rate: int) -> tuple[_Resolution, ...]:
    return tuple(
        _resolution(rate, seconds, low, high)
        for seconds, low, high in zip(_SECONDS, _SHARES_LOW, _SHARES_HIGH, strict=True)
    )


@lru_cache(maxsize=8)
def _piloting(rate: int) -> tuple[_Resolution, ...]:
    return tuple(_resolution(rate, _SECONDS[number], 1 / len(_PILOTS), 1 / len(_PILOTS)) for number in _PILOTS)


def _resolution(rate: int, seconds: float, low: float, high: float) -> _Resolution:
    """Return a length of window with its share in low and in high lines."""
    grid = Grid(size_for(seconds, rate))
    hz = np.arange(grid.size // 2 + 1) * rate / grid.size
    at = np.clip(np.log(np.maximum(hz, 1.0) / _LOW_HZ) / np.log(_HIGH_HZ / _LOW_HZ), 0, 1)
    shares = (low * (1 - at) + high * at).astype(np.float32)
    lines = int(np.flatnonzero(shares)[-1]) + 1
    return _Resolution(grid, lines, shares[:lines])


def _band_shares(text: str, rate: int) -> list[Single]:
    """Return how much is done in every line of each length of window: all in the band, nothing a little beside it."""
    made = []
    for one in _resolutions(rate):
        hz = np.maximum(np.arange(one.lines) * rate / one.grid.size, 1e-3)
        share = np.ones(one.lines)
        if (band := band_of(text)) is not None:
            above, below = np.log2(hz / max(band[0], 1e-3)), np.log2(band[1] / hz)
            share = np.clip(np.minimum(above, below) / _EDGE_OCTAVES + 1, 0, 1)
        made.append(share.astype(np.float32))
    return made


def _noise_powers(settings: Parameters, profile: Profile, rate: int) -> list[list[Single]]:
    """Return the noise's power in every line, for every channel and length of window, as far as it is to be taken."""
    louder = 10 ** (float(settings["threshold_db"]) / 10)
    weighting = str(settings["weighting"])
    made = []
    for levels_db in profile["levels_db"]:
        rows = []
        for one in _resolutions(rate):
            hz = np.arange(one.grid.size // 2 + 1) * rate / one.grid.size
            powers = line_powers(levels_db, rate, one.grid) * louder * 10 ** (weighting_db(weighting, hz) / 10)
            rows.append(np.maximum(powers, _FAINTEST_POWER).astype(np.float32))
        made.append(rows)
    return made


def context(settings: Parameters, profile: Profile, rate: int) -> int:
    """Return the longest window, which tells the gain, and those of the pilot, with what these are averaged over."""
    pilot = _piloting(rate)[-1].grid
    held = max(_held_frames(settings, rate))
    return _resolutions(rate)[-1].grid.size + held + pilot.size + (_REACH + 1) * pilot.hop


def learn(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Profile:
    """Return the print of the spans that are named, or what is estimated from all that the step is laid over."""
    chosen = parsed_print(str(settings["print"]))
    if chosen and chosen[-1][1] > sound.frames:
        raise ParameterError("The noise print lies beyond the end of the recording.")

    if not chosen:
        # What is estimated may be less than the noise: held against it, what sounds would seem noise that has grown.
        return {"rate": sound.rate, "levels_db": estimated_print(sound, spans, channels, progress, is_cancelled)}
    levels_db = measured_print(sound, chosen, channels, is_cancelled=is_cancelled)
    drift_db = noise_drift(sound, channels, levels_db, progress, is_cancelled)
    return {"rate": sound.rate, "levels_db": levels_db, "drift_db": drift_db}


def is_profile(profile: Profile, channels: int) -> bool:
    """Return whether this is a print for so many channels."""
    drift_db = profile.get("drift_db", [])
    if not {"rate", "levels_db"} <= set(profile) <= {"rate", "levels_db", "drift_db"}:
        return False
    if not isinstance(drift_db, list) or not all(type(level) is float and abs(level) <= 100 for level in drift_db):
        return False
    return is_print(profile["levels_db"], profile["rate"], channels)


def told(settings: Parameters, profile: Profile) -> str:
    """Return by how much noise is lowered."""
    return f"Noise −{float(settings['reduction_db']):g} dB"


METHOD = Method(
    name="denoise",
    title="Denoise",
    summary="Lowers steady noise between and beneath what is wanted, by a print of it.",
    parameters=(
        Parameter("reduction_db", "number", 10.0, "the most by which noise is lowered", (), "dB", 0.0, 40.0),
        Parameter("print", "text", ADAPTIVE, "where there is only noise, as START-END in frames, or adaptive",
                  check=parsed_print),
        Parameter("threshold_db", "number", 0.0, "how much louder than its print noise is taken to be", (), "dB",
                  -12.0, 12.0),
        Parameter("smoothing", "number", 0.6, "how little is left of single specks of noise: 0 to 1", (), "", 0.0, 1.0),
        Parameter("attack_ms", "number", 0.0, "how long before a sound the noise is let through again", (), "ms", 0.0,
                  500.0),
        Parameter("release_ms", "number", 0.0, "how long after a sound it takes until it is lowered", (), "ms", 0.0,
                  2000.0),
        Parameter("weighting", "curve", "", "where more is taken (+) or spared (−), as HZ:DB HZ:DB", unit="dB",
                  check=parsed_weighting),
        Parameter("band_hz", "band", "", "the band in which noise is lowered, as LOW-HIGH; nothing for all", unit="Hz"),
        Parameter("follows", "choice", "level", "whether a measured print follows the noise as its level drifts",
                  ("level", "nothing")),
        Parameter("channels", "choice", "together", "one gain for all channels, or one for each", ("together", "each")),
        *COMMON,
    ),
    does=Treatment(
        process,
        context,
        lambda settings, _: float(settings["reduction_db"]) == 0,
        told,
        learn,
        is_profile,
        measured_by=("print",),
    ),
)  # fmt: skip
