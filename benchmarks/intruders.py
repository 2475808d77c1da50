"""Sounds that do not belong: whistles, rings, chirps, beeps, knocks and coughs, each made by a small model."""

from __future__ import annotations

import numpy as np
import scipy.signal

from umbrick.core.areas.area import Area
from umbrick.core.areas.shapes import Mosaic
from umbrick.core.areas.transform import ShortTime

_REACH_DB = 35.0
"""Cells that lie no further below the loudest of an intruder are its area."""

TONAL = ("whistle", "chirp", "ring", "beep")


def _envelope(frames, rate, attack=0.02, release=0.05):
    rise, fall = (min(frames // 2, round(seconds * rate)) for seconds in (attack, release))
    made = np.ones(frames)
    made[:rise] = 0.5 - 0.5 * np.cos(np.pi * np.arange(rise) / rise)
    made[frames - fall :] = 0.5 + 0.5 * np.cos(np.pi * np.arange(fall) / fall)
    return made


def whistle(rate, random):
    """Return a kettle: a tone that rises a little and trembles, with a faint octave."""
    frames = round(random.uniform(0.8, 2.0) * rate)
    time = np.arange(frames) / rate
    hz = random.uniform(1200, 2800) * (1 + 0.02 * time + 0.003 * np.sin(2 * np.pi * 5.5 * time))
    phase = 2 * np.pi * np.cumsum(hz) / rate
    return (np.sin(phase) + 0.1 * np.sin(2 * phase)) * _envelope(frames, rate, 0.1, 0.15)


def chirp(rate, random):
    """Return a bird: three quick glides."""
    parts = []
    for _ in range(3):
        frames = round(random.uniform(0.12, 0.25) * rate)
        low, high = random.uniform(2000, 2600), random.uniform(3000, 3600)
        hz = np.linspace(*(sorted((low, high)) if random.random() < 0.5 else (high, low)), frames)
        parts += [np.sin(2 * np.pi * np.cumsum(hz) / rate) * _envelope(frames, rate), np.zeros(round(0.06 * rate))]
    return np.concatenate(parts[:-1])


def ring(rate, random):
    """Return a bell: partials that die away."""
    frames = round(random.uniform(0.7, 1.2) * rate)
    time = np.arange(frames) / rate
    base = random.uniform(800, 1400)
    made = np.zeros(frames)
    for ratio, level, decay in ((1.0, 1.0, 0.35), (2.0, 0.5, 0.25), (2.76, 0.4, 0.2), (5.4, 0.15, 0.12)):
        if base * ratio < 0.45 * rate:
            phase = random.uniform(0, 2 * np.pi)
            made += level * np.exp(-time / decay) * np.sin(2 * np.pi * base * ratio * time + phase)
    return made * _envelope(frames, rate, 0.002, 0.1)


def beep(rate, random):
    """Return one beep of a reversing lorry."""
    frames = round(0.2 * rate)
    tone = np.sin(2 * np.pi * random.uniform(1100, 1900) * np.arange(frames) / rate)
    return (tone + 0.2 * tone**3) * _envelope(frames, rate, 0.005, 0.01)


def knock(rate, random):
    """Return something that falls on a table: damped low partials and a short burst."""
    frames = round(0.18 * rate)
    time = np.arange(frames) / rate
    made = np.zeros(frames)
    for _ in range(6):
        hz, decay = random.uniform(90, 900), random.uniform(0.008, 0.03)
        made += random.uniform(0.3, 1) * np.exp(-time / decay) * np.sin(2 * np.pi * hz * time + random.uniform(0, 6))
    made += 0.5 * random.standard_normal(frames) * np.exp(-time / 0.003)
    return made * _envelope(frames, rate, 0.001, 0.03)


def cough(rate, random):
    """Return a cough: noise through a throat, an opening burst and a dying rest."""
    frames = round(random.uniform(0.25, 0.4) * rate)
    time = np.arange(frames) / rate
    noise = random.standard_normal(frames)
    made = np.zeros(frames)
    for hz, q, level in ((550, 4, 1.0), (1300, 5, 0.8), (2500, 5, 0.4)):
        b, a = scipy.signal.iirpeak(hz * random.uniform(0.85, 1.15), q, fs=rate)
        made += level * scipy.signal.lfilter(b, a, noise)
    return (
        made
        * (np.exp(-time / 0.04) + 0.4 * np.exp(-((time - 0.18) ** 2) / 0.005))
        * _envelope(frames, rate, 0.004, 0.05)
    )


INTRUDERS = {made.__name__: made for made in (whistle, chirp, ring, beep, knock, cough)}


def true_area(intruder, rate, frames) -> Area:
    """Return where an intruder of shape ``(frames,)`` is, by its spectra: of 43 ms, or of 11 if it is short."""
    size = 2 ** round(np.log2((0.043 if frames > 0.19 * rate else 0.011) * rate))
    transform = ShortTime(size)
    levels = np.abs(transform.spectra(intruder))
    mask = levels > levels.max() * 10 ** (-_REACH_DB / 20)
    return Area.of(Mosaic.of(mask, -transform.hop / 2, transform.hop, rate / size))
