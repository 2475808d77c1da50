"""More sound that is clean but unusual: strokes, calls and rumbles of instruments, animals, bells and the weather.

Each is made sound by sound at random times, with every sound's end faded, so that nothing breaks off.
"""

from __future__ import annotations

import numpy as np
from scipy.signal import butter, chirp, sosfilt

from benchmarks.ramps import RATE, ramped

SECONDS = 12.0

_FADE_MS, _ENDS_MS = 8.0, 300.0
_SCALE = 2 ** (np.array([0, 2, 4, 7, 9, 12, 14]) / 12)


def _times(seconds):
    return np.arange(round(seconds * RATE)) / RATE


def _through(sound, low, high, order=2):
    """Return what of a sound lies between two frequencies; 0 and None leave a side open."""
    if high is None:
        return sosfilt(butter(order, low, "high", fs=RATE, output="sos"), sound)
    if not low:
        return sosfilt(butter(order, high, fs=RATE, output="sos"), sound)
    return sosfilt(butter(order, (low, high), "band", fs=RATE, output="sos"), sound)


def _faded(wave):
    """Return a sound of its own that ends in silence."""
    wave, fade = wave.copy(), min(round(_FADE_MS * RATE / 1000), len(wave) // 2)
    wave[len(wave) - fade :] *= np.linspace(1, 0, fade)
    return wave


def _scored(events, floor=0.0, random=None):
    """Return sounds placed at their times, over a floor of noise, at a healthy level and faded at its ends."""
    sound = np.zeros(round(SECONDS * RATE))
    for at, wave in events:
        first = round(at * RATE)
        wave = wave[: len(sound) - first]
        sound[first : first + len(wave)] += _faded(wave)
    sound *= 0.6 / np.abs(sound).max()
    if floor:
        sound += floor * _through(random.standard_normal(len(sound)), 0, 6000)
    return ramped(sound, _ENDS_MS), RATE, 24


def _beats(random, choices, seconds=SECONDS - 1.5):
    """Yield times one after another, apart by one of some choices."""
    at = 0.4
    while at < seconds:
        yield at
        at += float(random.choice(choices))


def electric_piano(random, speech, music):
    """Struck tones by frequency modulation, which begin at once."""

    def note():
        tone, t = 55 * 2 ** (random.integers(12, 40) / 12), _times(random.choice([0.2, 0.4, 0.8]))
        decay = np.exp(-4 * t)
        return decay * np.sin(2 * np.pi * tone * t + 2.5 * decay * np.sin(2 * np.pi * 14 * tone * t))

    return _scored([(at, note()) for at in _beats(random, [0.1, 0.2, 0.4])])


def music_box(random, speech, music):
    """Plucked tines, with the tick of the pluck."""

    def note():
        tone, t = 1000 * random.choice(_SCALE), _times(1.5)
        tick = 0.3 * np.exp(-900 * t) * random.standard_normal(len(t))
        tine = np.exp(-5 * t) * np.sin(2 * np.pi * tone * t) + 0.3 * np.exp(-20 * t) * np.sin(
            2 * np.pi * 5.4 * tone * t
        )
        return tine + tick

    return _scored([(at, note()) for at in _beats(random, [0.15, 0.3])])


def organ(random, speech, music):
    """Chords of pipes, of six partials each."""

    def chord():
        t = _times(random.choice([0.3, 0.6, 1.2]))
        tones = 110 * 2 ** (random.choice([0, 4, 7, 12, 16, 19], 3, replace=False) / 12)
        ranks = ((0.5, 1), (1, 1), (2, 0.8), (3, 0.5), (4, 0.4), (8, 0.2))
        return sum(share * np.sin(2 * np.pi * tone * rank * t) for tone in tones for rank, share in ranks) * np.minimum(
            1, t / 0.003
        )

    at, played = 0.4, []
    while at < SECONDS - 1.5:
        played.append((at, chord()))
        at += len(played[-1][1]) / RATE
    return _scored(played)


def siren(random, speech, music):
    """A tone that rises and falls, saturated, so that all its crests are broad."""
    t = _times(SECONDS)
    tone = random.uniform(800, 1000) + 350 * np.sin(2 * np.pi * 0.4 * t)
    return _scored([(0.0, np.tanh(2 * np.sin(2 * np.pi * np.cumsum(tone) / RATE)))])


def birdsong(random, speech, music):
    """Phrases of chirps, all as loud."""
    events, at = [], 0.4
    while at < SECONDS - 1.5:
        for _ in range(random.integers(2, 8)):
            length = random.uniform(0.03, 0.15)
            t = _times(length)
            first, last = random.uniform(2000, 7000, 2)
            events.append((at, np.sin(np.pi * t / length) ** 0.7 * chirp(t, first, length, last)))
            at += length + random.uniform(0.01, 0.08)
        at += random.uniform(0.2, 0.8)
    return _scored(events, 0.0005, random)


def frogs(random, speech, music):
    """Croaks: rows of pulses that ring."""
    events, at, t = [], 0.4, _times(0.03)
    while at < SECONDS - 1.5:
        apart = random.uniform(0.012, 0.02)
        for _ in range(random.integers(10, 30)):
            events.append((at, np.exp(-300 * t) * np.sin(2 * np.pi * 900 * t)))
            at += apart
        at += random.uniform(0.3, 0.7)
    return _scored(events, 0.001, random)


def gongs(random, speech, music):
    """Two strokes of thirty partials that swell and die away over six seconds."""

    def stroke():
        t = _times(5.4)
        return sum(
            random.uniform(0.02, 0.1) * np.exp(-random.uniform(0.4, 3) * t) * np.sin(2 * np.pi * tone * t)
            * np.minimum(1, t / random.uniform(0.001, 0.3))
            for tone in 80 * np.cumsum(random.uniform(0.3, 0.9, 30))
        )  # fmt: skip

    return _scored([(0.4, stroke()), (6.2, stroke())])


def thunder(random, speech, music):
    """Claps that roll away into a quiet night."""
    events = []
    for at in (1.0, 6.0):
        t = _times(5.5)
        swell = np.abs(1 + 12 * _through(random.standard_normal(len(t)), 0, 4))
        events.append((at, _through(random.standard_normal(len(t)), 0, 400) * np.exp(-0.9 * t) * swell))
        burst = _times(0.5)
        events.append((at, 0.5 * _through(random.standard_normal(len(burst)), 100, 6000) * np.exp(-12 * burst)))
    return _scored(events, 0.0005, random)


def rockets(random, speech, music):
    """Bangs over a quiet night, without the sparks."""
    t = _times(1.5)
    bangs = [
        (at, _through(random.standard_normal(len(t)), 0, 1500) * np.exp(-7 * t) * np.minimum(1, t / 0.002))
        for at in np.sort(random.uniform(2.5, 8.0, 7))
    ]
    return _scored(bangs, 0.0005, random)


def echo(random, speech, music):
    """A voice with an echo that comes three times, each half as loud as the one before."""
    sound, rate = speech
    late, made = round(random.uniform(0.2, 0.3) * rate), sound.copy()
    for turn in (1, 2, 3):
        made[turn * late :] += 0.5**turn * sound[: -turn * late]
    return ramped(0.5 * made, _ENDS_MS, rate), rate, 24


def loop(random, speech, music):
    """Half a second of music that goes round, with fades where it was cut."""
    sound, rate = music
    length, first = rate // 2, int(random.integers(rate, 3 * rate))
    turn = ramped(sound[first : first + length], 5.0, rate)
    return ramped(np.tile(turn, 20), _ENDS_MS, rate), rate, 24


MORE = {
    "electric piano": electric_piano,
    "music box": music_box,
    "organ": organ,
    "siren": siren,
    "birdsong": birdsong,
    "frogs": frogs,
    "gongs": gongs,
    "thunder": thunder,
    "rockets": rockets,
    "echo": echo,
    "loop": loop,
}
