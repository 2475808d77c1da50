"""Taming sibilance: where a consonant is brighter than the same voice's others, its band is brought down to them."""

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

_WINDOW_SECONDS, _CONTEXT_SECONDS = 0.012, 15.0
_BAND_HZ = (2500.0, 24_000.0)
_BRIGHT, _GATE = 2.0, 0.01
_FEWEST = 12
_DULLER = 0.5
"""Without other consonants to go by, the place's own mean is halved."""


def rework(version: Version, place: Place, parameters: Parameters, _: Callable[[], bool]) -> Reworked:
    """Return a place whose high lines are no stronger than those of the voice's other consonants around it.

    Raises
    ------
    ParameterError
        If the recording has no room for sibilance: 5 kHz and less.
    """
    rate = version.rate
    if rate / 2 <= _BAND_HZ[0]:
        raise ParameterError("A recording at this rate holds no sibilance.")
    size = size_for(_WINDOW_SECONDS, rate)
    reach = round(_CONTEXT_SECONDS * rate)
    first = max(0, place.start - reach)
    made = version.read_exact(first, min(version.frames, place.stop + reach))
    start, stop = place.start - first, place.stop - first
    hz = np.arange(size // 2 + 1) * rate / size
    for channel in place.channels:
        wave = made[:, channel]
        own = own_consonants(wave, start, stop, hz, size) if parameters["using"] == "own" else np.zeros(len(hz))
        most_db = float(parameters["amount_db"])
        made[start:stop, channel] = tamed(wave, start, stop, rate, partial(_at_any_time, own), _BAND_HZ, most_db, size)
    stretch = Stretch(place.start, place.stop, already_made(version, place, made, first, Nature.FILTERED))
    return Reworked((stretch,), place, parameters)


def own_consonants(wave: Wave, start: int, stop: int, hz: Wave, size: int) -> Wave:
    """Return the mean magnitude of each line in a voice's bright consonants around a place."""
    parts = [wave[:start], wave[stop:]]
    windows = np.concatenate(
        [magnitudes(part, size) for part in parts if len(part) >= size] or [np.zeros((0, len(hz)))]
    )
    high = np.square(windows[:, hz >= _BAND_HZ[0]]).sum(axis=1)
    low = np.square(windows[:, (hz >= 100) & (hz < _BAND_HZ[0])]).sum(axis=1)
    loud = float(np.percentile(high + low, 90)) if len(windows) else 0.0
    bright = (high > _BRIGHT * low) & (high > _GATE * loud)
    if bright.sum() < _FEWEST:
        mean: Wave = _DULLER * np.sqrt(np.square(magnitudes(wave[start:stop], size)).mean(axis=0))
        return mean
    own: Wave = np.sqrt(np.square(windows[bright]).mean(axis=0))
    return own


def _at_any_time(own: Wave, _: Wave) -> Wave:
    return own


METHOD = Method(
    name="sibilance",
    title="Sibilance",
    summary="Brings a consonant that is too bright to this voice's other ones.",
    parameters=(
        Parameter(
            "using",
            "choice",
            "own",
            "down to the voice's other consonants, or all highs by the amount",
            ("own", "shelf"),
        ),
        Parameter("amount_db", "number", 12.0, "the most by which its high lines are lowered", (), "dB", 0.0, 40.0),
    ),
    does=Reworking(rework, nature=Nature.FILTERED),
)
