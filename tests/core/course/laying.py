"""Courses over made-up sound, for the tests of the course."""

from dataclasses import replace

import numpy as np

from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.tiles import Tiles
from umbrick.core.course.treatments import deess
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.source import ArraySource
from umbrick.core.spectral.room import rays
from umbrick.core.timeline.version import Version

RATE = 8000

_FALLS_DB = [[[-3.0 - age for age in one.ages] for _ in one.edges] for one in rays(RATE)]
_FALLS = {"rate": RATE, "falls_db": _FALLS_DB, "early_db": -9.0, "late_db": -30.0}
_DULL = next(count for count in range(1, 999) if deess.is_profile({"rate": RATE, "levels_db": [-25.0] * count}, 1))
LEARNED = {
    "deess": {"rate": RATE, "levels_db": [-25.0] * _DULL},
    "dehum": {"hz": [50.0, 50.1, 50.0], "levels_db": [-23.0]},
    "dereverb": _FALLS,
}
"""Profiles of treatments that learn nothing from the short sounds of most tests."""


def opened(sound, rate=RATE, key="sound"):
    return Version.of(ArraySource(sound, rate, key))


def step_of(version, method, settings=None, spans=None, channels=None, course=()):
    """A step that is ready to be laid over a version which is nobody's descendant."""
    on = tuple(range(version.channels)) if channels is None else channels
    step = new_step(METHODS[method], settings or {}, on, spans, course)
    if method == "lull":
        return step
    if method in LEARNED:
        return replace(step, profile=LEARNED[method])
    return learned(Ground(version, version, Tiles()), course, step)


def through(version, *course, tiles=None):
    return Ground(version, version, tiles or Tiles()).through(course)


def heard(version):
    return version.read(0, version.frames)


def with_all(frames, channels=1):
    """Noise with an offset, hum and something bright for a while: every treatment finds what it takes out."""
    at = np.arange(frames)
    hum = 0.1 * np.sin(2 * np.pi * 50 * at / RATE)
    hum += 0.8 * np.sin(2 * np.pi * 3300 * at / RATE) * ((at > frames // 3) & (at < 2 * frames // 3))
    return noise(frames, channels) + 0.1 + hum[:, np.newaxis]


def noise(frames, channels=1, seed=0, level=0.3):
    return level * np.random.default_rng(seed).standard_normal((frames, channels))
