"""Faults of every kind, planted in clean sound with the truth kept: ``PLANTERS`` gives one function for each.

Each takes clean sound of shape (frames, channels), its rate and a random generator, and returns the sound with its
faults and their places.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy.signal import butter, sosfilt

from benchmarks.planting import clip_at


class Planted(NamedTuple):
    """A fault in the planted sound: frames, half open."""

    start: int
    stop: int


def local_level(sound, at, rate, seconds=0.02):
    """Return the RMS level around a place, at least −60 dBFS."""
    around = sound[max(0, at - round(seconds * rate)) : at + round(seconds * rate)]
    return max(1e-3, float(np.sqrt(np.mean(around**2))) if len(around) else 0.0)


def places(sound, rate, random, count, length, loud_db=None):
    """Return starts, far apart, of stretches; with ``loud_db`` just where the level is within that of the whole's."""
    distance = max(length + round(0.15 * rate), len(sound) // (3 * count))
    whole = float(np.sqrt(np.mean(sound**2)))
    chosen: list[int] = []
    for _ in range(400):
        at = int(
            random.integers(round(0.2 * rate), max(round(0.2 * rate) + 1, len(sound) - length - round(0.2 * rate)))
        )
        part = sound[at : at + length]
        if loud_db is not None:
            size = max(1, round(0.005 * rate))
            ends = sound[max(0, at - size) : at], sound[at + length : at + length + size], part
            if min(np.sqrt(np.mean(end**2)) for end in ends) < whole * 10 ** (-loud_db / 20):
                continue
        if all(abs(at - other) > distance for other in chosen):
            chosen.append(at)
        if len(chosen) == count:
            break
    return sorted(chosen)


def _count(sound, rate, per_second):
    return max(2, round(per_second * len(sound) / rate))


def spikes(sound, rate, random):
    """Single wrong samples, 6 to 24 dB over the level around them."""
    sound, truth = sound.copy(), []
    for at in places(sound, rate, random, _count(sound, rate, 0.7), 1):
        size = local_level(sound, at, rate) * 10 ** (random.uniform(6, 24) / 20)
        sound[at] += size * random.choice((-1, 1))
        truth.append(Planted(at, at + 1))
    return sound, truth


def clicks(sound, rate, random):
    """Ticks of 0.1 to 3 ms, 3 to 20 dB over the level around them: bursts of noise and of a damped resonance."""
    sound, truth = sound.copy(), []
    for at in places(sound, rate, random, _count(sound, rate, 0.7), round(0.003 * rate)):
        length = max(2, round(rate * 10 ** random.uniform(-4, np.log10(0.003))))
        t = np.arange(length) / length
        if random.random() < 0.5:
            wave = random.standard_normal(length) * np.exp(-3 * t)
        else:
            wave = np.cos(2 * np.pi * random.uniform(0.5, 2) * t * max(1, length / 8)) * np.exp(-4 * t)
        peak = 1.4 * local_level(sound, at, rate) * 10 ** (random.uniform(3, 20) / 20)
        sound[at : at + length] += (peak * wave / np.abs(wave).max())[:, np.newaxis]
        truth.append(Planted(at, at + length))
    return sound, truth


def tick_of(level, rate, random):
    """Return a tick of 0.04 to 0.6 ms, its peak 8 dB below to 6 dB over a level."""
    size = max(1, round(rate * random.uniform(0.00004, 0.0006)))
    wave = random.standard_normal(size) * np.exp(-3 * np.arange(size) / size)
    return wave * (level * 10 ** (random.uniform(-8, 6) / 20) / np.abs(wave).max())


def crackles(sound, rate, random):
    """Stretches of 0.3 to 1 s with 60 to 300 small ticks a second."""
    sound, truth = sound.copy(), []
    longest = rate
    for at in places(sound, rate, random, _count(sound, rate, 0.12), longest):
        length = round(random.uniform(0.3, 1.0) * rate)
        density = random.uniform(60, 300)
        level = local_level(sound, at + length // 2, rate, 0.3)
        for tick in np.sort(random.integers(0, length, round(density * length / rate))):
            wave = tick_of(level, rate, random)
            stop = min(len(sound), at + tick + len(wave))
            sound[at + tick : stop] += wave[: stop - at - tick, np.newaxis]
        truth.append(Planted(at, at + length))
    return sound, truth


def mouth_clicks(sound, rate, random):
    """Damped resonances of 1.5 to 8 ms between 1.8 and 6.5 kHz, at the level of consonants or, in pauses, quieter."""
    sound, truth = sound.copy(), []
    whole = float(np.sqrt(np.mean(sound**2)))
    for at in places(sound, rate, random, _count(sound, rate, 0.5), round(0.01 * rate)):
        length = round(random.uniform(0.0015, 0.008) * rate)
        t = np.arange(length) / rate
        frequency = random.uniform(1800, min(6500, 0.4 * rate))
        wave = np.sin(2 * np.pi * frequency * t) * np.exp(-5 * t / t[-1])
        level = max(0.35 * whole * random.choice((0.3, 1.0)), 1.2 * local_level(sound, at, rate, 0.01))
        level *= random.uniform(0.8, 2)
        sound[at : at + length] += (level * wave / np.abs(wave).max())[:, np.newaxis]
        truth.append(Planted(at, at + length))
    return sound, truth


def dropouts(sound, rate, random):
    """Holes of 3 to 200 ms inside sound: zeros, one value held, or 30 to 50 dB down."""
    sound, truth = sound.copy(), []
    lengths = [round(rate * 10 ** random.uniform(np.log10(0.003), np.log10(0.2))) for _ in range(99)]
    chosen = places(sound, rate, random, _count(sound, rate, 0.3), round(0.2 * rate), 15)
    for at, length in zip(chosen, lengths, strict=False):
        form = random.integers(3)
        if form == 0:
            sound[at : at + length] = 0
        elif form == 1:
            sound[at : at + length] = sound[at - 1]
        else:
            sound[at : at + length] *= 10 ** (-random.uniform(30, 50) / 20)
        truth.append(Planted(at, at + length))
    return sound, truth


def discontinuities(sound, rate, random):
    """Stretches of 4 to 60 ms taken out of sound, and hard joins."""
    parts, truth, last, length = [], [], 0, 0
    for at in places(sound, rate, random, _count(sound, rate, 0.3), round(0.06 * rate), 12):
        parts.append(sound[last:at])
        length += at - last
        truth.append(Planted(length, length + 1))
        last = at + round(random.uniform(0.004, 0.06) * rate)
    return np.concatenate([*parts, sound[last:]]), truth


def repeats(sound, rate, random):
    """Blocks of 15 to 120 ms that come again, once or twice, before the sound goes on."""
    parts, truth, last, length = [], [], 0, 0
    for at in places(sound, rate, random, _count(sound, rate, 0.25), round(0.12 * rate), 15):
        block = round(random.uniform(0.015, 0.12) * rate)
        times = int(random.integers(1, 3))
        parts += [sound[last:at], *[sound[at - block : at]] * times]
        length += at - last
        truth.append(Planted(length, length + times * block))
        length += times * block
        last = at
    return np.concatenate([*parts, sound[last:]]), truth


def last_cycle(sound, at, rate):
    """Return the pitch cycle before a frame: the lag, of 2.5 to 16 ms, at which the sound is most like itself."""
    before = sound[at - round(0.04 * rate) : at].mean(axis=1)
    lags = np.arange(round(0.0025 * rate), round(0.016 * rate))
    own = before[-round(0.016 * rate) :]
    match = [np.dot(own, before[len(before) - len(own) - lag : len(before) - lag]) for lag in lags]
    return sound[at - int(lags[int(np.argmax(match))]) : at]


def held(sound, rate, random):
    """What a poor line does: the last pitch cycle goes round and fades, for 30 to 90 ms; then the sound goes on."""
    sound, truth = sound.copy(), []
    for at in places(sound, rate, random, _count(sound, rate, 0.25), round(0.1 * rate), 12):
        cycle = last_cycle(sound, at, rate)
        length = round(random.uniform(0.03, 0.09) * rate)
        wave = np.tile(cycle, (length // len(cycle) + 2, 1))[:length]
        sound[at : at + length] = wave * np.linspace(1, random.uniform(0.1, 0.5), length)[:, np.newaxis]
        truth.append(Planted(at, at + length))
    return sound, truth


def plosives(sound, rate, random):
    """Breath hitting the microphone where a syllable begins: thumps below 150 Hz."""
    sound, truth = sound.copy(), []
    energy = np.convolve((sound**2).mean(axis=1), np.ones(rate // 50) / (rate // 50), "same")[:: rate // 100]
    rises = np.flatnonzero((energy[4:] > 8 * energy[:-4] + 1e-7) & (energy[4:] > 0.3 * energy.mean())) + 3
    onsets: list[int] = []
    for rise in random.permutation(rises):
        at = int(rise) * (rate // 100)
        if all(abs(at - other) > rate // 2 for other in onsets) and at < len(sound) - rate // 5:
            onsets.append(at)
        if len(onsets) == _count(sound, rate, 0.3):
            break
    loud = float(np.quantile(np.abs(sound), 0.99))
    for at in sorted(onsets):
        t = np.arange(round(random.uniform(0.05, 0.1) * rate)) / rate
        fall, low = random.uniform(0.015, 0.03), random.uniform(60, 110)
        wave = np.sin(2 * np.pi * (low - 200 * t) * t) * np.exp(-t / fall) * np.minimum(1, t / 0.004)
        sound[at : at + len(wave)] += (loud * random.uniform(0.8, 2.0) * wave)[:, np.newaxis]
        truth.append(Planted(at, at + len(wave)))
    return sound, truth


def sibilants(sound, rate, random):
    """Of the brighter consonants every third made 9 to 15 dB louder."""
    sound, truth = sound.copy(), []
    edge = min(4500, 0.3 * rate)
    high = sosfilt(butter(4, edge, "highpass", fs=rate, output="sos"), sound, axis=0)
    size = rate // 100
    count = len(sound) // size
    strong, whole = (
        (part[: count * size] ** 2).mean(axis=1).reshape(count, size).mean(axis=1) for part in (high, sound)
    )
    bright = (strong > 0.4 * whole) & (whole > 0.02 * (sound**2).mean())
    edges = np.flatnonzero(np.diff(bright, prepend=False, append=False))
    spans = [(a * size, b * size) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= 4]
    strength = [strong[start // size : stop // size].max() for start, stop in spans]
    brighter = [span for span, level in zip(spans, strength, strict=True) if level >= np.median(strength)]
    for start, stop in brighter[int(random.integers(3)) % max(1, len(brighter)) :: 3]:
        ramp = np.hanning(stop - start)[:, np.newaxis] ** 0.3
        sound[start:stop] += (10 ** (random.uniform(9, 15) / 20) - 1) * high[start:stop] * ramp
        truth.append(Planted(start, stop))
    return sound, truth


def hums(sound, rate, random):
    """Mains hum through all of it, 20 to 38 dB below the sound."""
    t = np.arange(len(sound)) / rate
    fundamental = random.choice((50, 60)) + random.uniform(-0.08, 0.08)
    level = float(np.sqrt(np.mean(sound**2))) * 10 ** (-random.uniform(20, 38) / 20)
    wave = sum(w * np.sin(2 * np.pi * fundamental * k * t + k) for k, w in enumerate((1, 0.5, 0.7, 0.2, 0.3), 1))
    return sound + (level * wave / np.std(wave))[:, np.newaxis], [Planted(0, len(sound))]


def hisses(sound, rate, random):
    """Steady noise through all of it, 20 to 32 dB below the sound."""
    level = float(np.sqrt(np.mean(sound**2))) * 10 ** (-random.uniform(20, 32) / 20)
    return sound + level * random.standard_normal(sound.shape), [Planted(0, len(sound))]


def intrusions(sound, rate, random):
    """Foreign calls of 0.4 to 2 s: steady tones, gliding whistles, rings and beeps."""
    sound, truth = sound.copy(), []
    for at in places(sound, rate, random, _count(sound, rate, 0.12), 2 * rate):
        length = round(random.uniform(0.4, 2.0) * rate)
        t = np.arange(length) / rate
        low, form = random.uniform(900, min(5000, 0.35 * rate)), random.integers(4)
        if form == 0:
            wave = np.sin(2 * np.pi * low * t)
        elif form == 1:
            wave = np.sin(2 * np.pi * (low * t + 200 * t**2 / 2))
        elif form == 2:
            wave = np.sin(2 * np.pi * low * t) * (np.sin(2 * np.pi * 12 * t) > -0.3) + 0.5 * np.sin(
                2 * np.pi * 1.27 * low * t
            )
        else:
            wave = np.sin(2 * np.pi * low * t) + 0.4 * np.sin(4 * np.pi * min(low, 0.2 * rate) * t)
        wave *= np.minimum(1, t / 0.02) * np.minimum(1, (t[-1] - t) / 0.02)
        level = float(np.sqrt(np.mean(sound**2))) * 10 ** (-random.uniform(0, 14) / 20)
        sound[at : at + length] += (level * 1.4 * wave / np.abs(wave).max())[:, np.newaxis]
        truth.append(Planted(at, at + length))
    return sound, truth


def peaks(sound, rate, random):
    """One hit or word, 60 to 250 ms long, 10 to 14 dB louder than it was."""
    sound = sound.copy()
    length = round(random.uniform(0.06, 0.25) * rate)
    loud = np.convolve(np.abs(sound).max(axis=1), np.ones(length) / length, "valid")[:: rate // 100]
    order = np.argsort(loud)[::-1]
    at = int(order[random.integers(max(1, len(order) // 20))]) * (rate // 100)
    ramp = np.minimum(1, np.minimum(np.arange(length), np.arange(length)[::-1]) / (0.01 * rate))[:, np.newaxis]
    sound[at : at + length] *= 10 ** (random.uniform(10, 14) * ramp / 20)
    top = max(1.0, float(np.abs(sound).max()) / 0.9)
    return sound / top, [Planted(at, at + length)]


def level_steps(sound, rate, random):
    """From one place on, 8 to 14 dB lower or louder, with a ramp of 2 to 50 ms about it."""
    at = round(random.uniform(0.35, 0.65) * len(sound))
    gain_db = random.uniform(8, 14) * random.choice((-1, 1))
    length = rate * 10 ** random.uniform(np.log10(0.002), np.log10(0.05))
    ramp = np.clip((np.arange(len(sound)) - at) / length + 0.5, 0, 1)[:, np.newaxis]
    sound = sound * 10 ** (gain_db * ramp / 20)
    return sound / max(1.0, float(np.abs(sound).max()) / 0.9), [Planted(at, at + 1)]


def offsets(sound, rate, random):
    """A direct current of 0.3 to 5 % of full scale through all of it."""
    size = 10 ** random.uniform(np.log10(0.003), np.log10(0.05)) * random.choice((-1, 1))
    return sound * 0.9 + size, [Planted(0, len(sound))]


def hard_edges(sound, rate, random):
    """Both ends cut off in the middle of sound."""
    inner = places(sound, rate, random, 2, 1, 6)
    first, last = inner[0], inner[-1] if len(inner) > 1 else len(sound)
    if last - first < rate:
        first, last = inner[0], len(sound)
    cut = sound[first:last]
    truth = [Planted(0, 1)] + ([Planted(len(cut) - 1, len(cut))] if last < len(sound) else [])
    return cut, truth


def clippings(sound, rate, random):
    """0.3 % of the samples cut off, at −0.1 to −6 dBFS."""
    planted, mask = clip_at(sound, random.uniform(-6, -0.1), 0.003)
    edges = np.flatnonzero(np.diff(mask.any(axis=1), prepend=False, append=False))
    return planted, [Planted(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


PLANTERS = {
    "clipping": ("clipping", clippings),
    "spike": ("click", spikes),
    "click": ("click", clicks),
    "crackle": ("crackle", crackles),
    "mouth_click": ("mouth_click", mouth_clicks),
    "dropout": ("dropout", dropouts),
    "discontinuity": ("discontinuity", discontinuities),
    "repeat": ("stutter", repeats),
    "held": ("stutter", held),
    "plosive": ("plosive", plosives),
    "sibilance": ("sibilance", sibilants),
    "hum": ("hum", hums),
    "hiss": ("hiss", hisses),
    "intrusion": ("intrusion", intrusions),
    "peak": ("peak", peaks),
    "level_step": ("level_step", level_steps),
    "dc_offset": ("dc_offset", offsets),
    "hard_edge": ("hard_edge", hard_edges),
}
"""What is planted: the kind that should be found, and how."""

FOR_VOICE = ("mouth_click", "plosive", "sibilance", "held")
"""What just a voice has."""
