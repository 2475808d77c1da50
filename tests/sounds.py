"""Sounds that tests are made of: made up, repeatable, of known form."""

from functools import lru_cache

import numpy as np
import soundfile

RATE = 48000


def rng(seed=0):
    return np.random.default_rng(seed)


def sine(frequency=440.0, seconds=1.0, level=0.5, rate=RATE, channels=1):
    t = np.arange(round(seconds * rate)) / rate
    wave = level * np.sin(2 * np.pi * frequency * t)
    return np.repeat(wave[:, np.newaxis], channels, axis=1)


def voice(seconds=2.0, rate=RATE, seed=0, level=0.5, noise=0.01, pitch=120.0):
    """A made-up vowel: harmonics of a gliding pitch under two resonances, swelling, with breath noise."""
    return _voice(seconds, rate, seed, level, noise, pitch).copy()


@lru_cache(maxsize=64)
def _voice(seconds, rate, seed, level, noise, pitch):
    random = rng(seed)
    t = np.arange(round(seconds * rate)) / rate
    height = pitch + 25 * np.sin(2 * np.pi * 0.7 * t + seed)
    phase = 2 * np.pi * np.cumsum(height) / rate
    wave = np.zeros_like(t)
    for harmonic in range(1, 24):
        frequency = 120 * harmonic
        weight = np.exp(-(((frequency - 650) / 300) ** 2)) + 0.4 * np.exp(-(((frequency - 1700) / 350) ** 2)) + 0.05
        wave += weight * np.sin(harmonic * phase + random.uniform(0, 6.28))
    wave *= 0.35 + 0.65 * np.abs(np.sin(2 * np.pi * 1.3 * t))
    wave += noise * random.standard_normal(len(t))
    return (level * wave / np.abs(wave).max())[:, np.newaxis]


def faultless(seconds=2.0, rate=RATE, seed=0):
    """That vowel without anything a survey could find: hardly any noise, and faded at both ends."""
    wave = voice(seconds, rate, seed, noise=0.0005, pitch=143.0)
    fade = min(len(wave) // 4, round(0.03 * rate))
    ramp = np.linspace(0, 1, fade)[:, np.newaxis] ** 2
    wave[:fade] *= ramp
    wave[len(wave) - fade :] *= ramp[::-1]
    return wave


def chord(seconds=1.0, rate=RATE, level=0.5):
    """A held chord of plain tones."""
    t = np.arange(round(seconds * rate)) / rate
    wave = sum(np.sin(2 * np.pi * f * t + f) / k for k, f in enumerate((220.0, 277.2, 329.6, 660.0, 1108.7), 1))
    return (level * wave / np.abs(wave).max())[:, np.newaxis]


def clipped(sound, share=0.01, rail=0.9):
    """Drive a sound so that this share of it passes the rail; return it cut off, the truth, and the mask."""
    gain = rail / np.quantile(np.abs(sound), 1 - share)
    truth = sound * gain
    return np.clip(truth, -rail, rail), truth, np.abs(truth) > rail


def bent(wave, below_db, stretch, rail):
    """Return a wave as a soft knee below a rail leaves it, before it is cut off there."""
    begins = rail * 10 ** (-below_db / 20)
    sizes = np.abs(wave)
    return np.copysign(np.minimum(sizes, begins) + np.maximum(sizes - begins, 0) / stretch, wave)


def on_grid(sound, bits):
    step = 2.0 ** (1 - bits)
    return np.clip(np.round(sound / step) * step, -1, 1 - step)


def write(path, sound, rate=RATE, subtype="PCM_24", container=None):
    soundfile.write(path, sound, rate, subtype=subtype, format=container)
    return path


def runs(mask):
    edges = np.flatnonzero(np.diff(mask, prepend=False, append=False))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))
