"""Taming plosives: the burst below the voice is brought to the voice's own low end; the consonant stays."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np

from umbrick.core.errors import ParameterError
from umbrick.core.mend.making import Wave, already_made
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.mend.voice.taming import magnitudes, tamed
from umbrick.core.spectral.grid import size_for
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

AUTO = "auto"
_WINDOW_SECONDS, _CONTEXT_SECONDS, _BESIDE_SECONDS = 0.085, 4.0, 0.05
_LOWEST_HZ, _HIGHEST_HZ, _USUAL_HZ = 60.0, 250.0, 120.0
_OWN_PERCENTILE, _RATIO_PERCENTILE, _LEAST_PERCENTILE = 85, 60, 5
_ABOVE_HZ = (300.0, 1500.0)
_LEAST_DB = 3.0


def rework(version: Version, place: Place, parameters: Parameters, _: Callable[[], bool]) -> Reworked:
    """Return a place whose lines below a crossover are no stronger than the voice's own around it.

    Raises
    ------
    ParameterError
        If there is too little sound around the place to tell what the voice has there.
    """
    rate = version.rate
    size = size_for(_WINDOW_SECONDS, rate)
    reach = round(_CONTEXT_SECONDS * rate)
    first = max(0, place.start - reach)
    made = version.read_exact(first, min(version.frames, place.stop + reach))
    start, stop = place.start - first, place.stop - first
    hz = np.arange(size // 2 + 1) * rate / size
    found_hz = []
    for channel in place.channels:
        wave = made[:, channel]
        voice = voice_around(wave, start, stop, rate, size)
        if voice is None:
            raise ParameterError("There is too little sound beside this place to tell what the voice has below.")
        own: Wave = np.percentile(voice, _OWN_PERCENTILE, axis=0)
        typed = parameters["crossover_hz"]
        top_hz = _crossover(magnitudes(wave[start:stop], size), own, hz) if typed == AUTO else float(typed)
        found_hz.append(top_hz)
        most_db = float(parameters["amount_db"])
        target = partial(_own_there, voice, own, hz) if parameters["using"] == "own" else np.zeros_like
        made[start:stop, channel] = tamed(wave, start, stop, rate, target, (0.0, top_hz), most_db, size)
    stretch = Stretch(place.start, place.stop, already_made(version, place, made, first, Nature.FILTERED))
    used = {**parameters, "crossover_hz": round(max(found_hz), 1)}
    return Reworked((stretch,), place, used)


def voice_around(wave: Wave, start: int, stop: int, rate: int, size: int) -> Wave | None:
    """Return the magnitudes of the windows in which the voice sounds around a place; None if it hardly does."""
    beside = round(_BESIDE_SECONDS * rate)
    parts = [wave[: max(0, start - beside)], wave[stop + beside :]]
    seen = [magnitudes(part, size) for part in parts if len(part) >= 2 * size]
    if not seen:
        return None
    windows = np.concatenate(seen)
    level = np.square(windows).sum(axis=1)
    sounding = windows[level > 0.03 * np.percentile(level, 95)]
    return sounding if len(sounding) >= 8 else None


def _own_there(voice: Wave, own: Wave, hz: Wave, seen: Wave) -> Wave:
    """Return the magnitude that each line may have in each window: as much as this voice has there when it is as strong
    above the burst as now. What it has below in its vowels, a closed mouth has not."""
    above = (hz > _ABOVE_HZ[0]) & (hz < _ABOVE_HZ[1])
    strength, strengths = (np.sqrt(np.square(windows[:, above]).mean(axis=1)) + 1e-12 for windows in (seen, voice))
    ratio = np.percentile(voice / strengths[:, np.newaxis], _RATIO_PERCENTILE, axis=0)
    least = np.percentile(voice, _LEAST_PERCENTILE, axis=0)
    there: Wave = np.clip(strength[:, np.newaxis] * ratio, least, own)
    return there


def _crossover(burst: Wave, own: Wave, hz: Wave) -> float:
    """Return up to where a burst stands out, from its strongest line on."""
    power, usual = np.square(burst).mean(axis=0), np.square(own)
    excess = (power > usual * 10 ** (_LEAST_DB / 10)) & (hz <= _HIGHEST_HZ)
    if not excess.any():
        return _USUAL_HZ
    first = int(np.argmax(np.where(excess, power - usual, 0.0)))
    ends = np.flatnonzero(~excess[first:])
    return float(np.clip(hz[first + int(ends[0])], _LOWEST_HZ, _HIGHEST_HZ))


METHOD = Method(
    name="plosive",
    title="Plosive",
    summary="Brings the burst of a plosive to the voice's own low end; the consonant stays.",
    parameters=(
        Parameter(
            "crossover_hz", "number", AUTO, "below what the burst is lowered; auto finds how high it reaches", (AUTO,),
            "Hz", 40.0, 400.0,
        ),
        Parameter("using", "choice", "own", "down to the voice's own low end, or all of it by the amount",
                  ("own", "cut")),
        Parameter("amount_db", "number", 60.0, "the most by which it is lowered", (), "dB", 0.0, 60.0),
    ),
    does=Reworking(rework, nature=Nature.FILTERED),
)  # fmt: skip
