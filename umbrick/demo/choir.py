"""The choir of the canal's chapel through three microphones, each of which began to record when it liked."""

from __future__ import annotations

import numpy as np
from scipy.signal import butter, fftconvolve, sosfilt

from umbrick.demo.faults import Sound, Tape

RATE = 44100
_SECONDS = 16.0
_BEAT = 0.8
_VOICES = (
    (72, 71, 69, 71, 72, 74, 72, 71, 69, 67, 69, 71, 72, 71, 69, 67),
    (67, 67, 65, 67, 67, 69, 67, 67, 65, 64, 65, 67, 67, 67, 65, 64),
    (64, 62, 60, 62, 64, 65, 64, 62, 60, 60, 60, 62, 64, 62, 60, 60),
    (48, 55, 53, 55, 48, 53, 48, 55, 53, 48, 53, 55, 48, 55, 53, 48),
)
"""Four parts, a note a beat: semitones, 69 is 440 Hz."""

_MICROPHONES = {
    "choir-left": ((0.9, 1.0, 0.6, 0.4), 0.0000, 0.30, (0.0021, 0.0048, 0.0075, 0.0103)),
    "choir-right": ((0.4, 0.5, 0.9, 1.0), 0.3500, 0.30, (0.0098, 0.0069, 0.0044, 0.0024)),
    "choir-spot": ((0.6, 0.9, 1.0, 0.6), -0.6200, 0.12, (0.0018, 0.0012, 0.0011, 0.0020)),
}
"""How loud each part is heard, how much earlier it starts than the first, its share of the room, and the ways there."""

_COUGH_AT, _DROPOUT_AT, _DROPOUT_SECONDS = 9.3, 6.05, 0.013
_VOWEL = ((680, 90, 1.0), (1150, 110, 0.5), (2700, 160, 0.16))
_SINGERS = 3


def _part(notes: tuple[int, ...], seed: int) -> Sound:
    """A few singers on one part, none quite in tune or in time with the others."""
    random = np.random.default_rng(seed)
    frames = round(_SECONDS * RATE)
    whole = np.zeros(frames)
    for _ in range(_SINGERS):
        t = np.arange(frames) / RATE
        at = np.clip(((t - 1.1 - random.uniform(0, 0.05)) / _BEAT).astype(int), 0, len(notes) - 1)
        height = 440 * 2 ** ((np.array(notes)[at] - 69 + random.uniform(-0.09, 0.09)) / 12)
        height = np.convolve(height, np.hanning(2205) / np.hanning(2205).sum(), "same")
        sway = random.uniform(4.6, 5.6)
        phase = 2 * np.pi * np.cumsum(height * (1 + 0.006 * np.sin(2 * np.pi * sway * t + random.uniform(0, 6)))) / RATE
        voice = sum(np.sin(number * phase) / number for number in range(1, 22))
        whole += sum(
            share * sosfilt(butter(1, (f - w, f + w), "bandpass", fs=RATE, output="sos"), voice)
            for f, w, share in _VOWEL
        )
        whole += 0.02 * sosfilt(
            butter(1, (2000, 9000), "bandpass", fs=RATE, output="sos"), random.standard_normal(frames)
        )
    last = 1.1 + len(notes) * _BEAT
    t = np.arange(frames) / RATE
    swell = 0.75 + 0.25 * np.sin(2 * np.pi * t / (4 * _BEAT))
    return whole * swell * np.clip((t - 1.0) / 0.2, 0, 1) * np.clip((last + 1.2 - t) / 1.2, 0, 1)


def _cough(random: np.random.Generator) -> Sound:
    t = np.arange(round(0.32 * RATE)) / RATE
    burst = random.standard_normal(len(t)) * (np.exp(-t / 0.05) + 0.6 * np.exp(-np.abs(t - 0.17) / 0.04))
    return sosfilt(butter(2, (250, 3800), "bandpass", fs=RATE, output="sos"), burst)


def _delayed(wave: Sound, seconds: float) -> Sound:
    late = round(seconds * RATE)
    return np.concatenate([np.zeros(late), wave])[: len(wave)]


def choir(name: str) -> Tape:
    """One of the three microphones: a dropout in the spot one, and a cough that all of them heard."""
    random = np.random.default_rng(1888 + list(_MICROPHONES).index(name))
    shares, earlier, room, ways = _MICROPHONES[name]
    parts = [_part(notes, 1880 + number) for number, notes in enumerate(_VOICES)]
    level = max(float(np.abs(part).max()) for part in parts)
    arriving = [share * _delayed(part, way) for part, share, way in zip(parts, shares, ways, strict=True)]
    direct: Sound = np.sum(arriving, axis=0) / level
    t = np.arange(round(0.9 * RATE)) / RATE
    tail = random.standard_normal(len(t)) * np.exp(-t / 0.22) * (t > 0.012)
    tail = sosfilt(butter(1, 4500, fs=RATE, output="sos"), tail)
    heard = direct + room * fftconvolve(sum(parts) / level, tail / np.sqrt(np.sum(tail**2)))[: len(direct)]
    cough = np.zeros(len(heard))
    made = _cough(np.random.default_rng(1890))
    start = round((_COUGH_AT + ways[1]) * RATE)
    cough[start : start + len(made)] = made
    cough += 0.3 * room * fftconvolve(cough, tail / np.sqrt(np.sum(tail**2)))[: len(cough)]
    heard *= 0.35 / np.abs(heard).max()
    heard += 0.05 * cough / np.abs(cough).max() * (0.6 if name == "choir-spot" else 1.0)
    heard += 0.00012 * random.standard_normal(len(heard))
    frames = round(earlier * RATE)
    shifted = np.concatenate([1e-4 * random.standard_normal(frames), heard]) if frames > 0 else heard[-frames:]
    tape = Tape(shifted[:, np.newaxis], RATE, 1889)
    tape.note("cough", start + frames, start + frames + len(made), (0,))
    if name == "choir-spot":
        hole = round(_DROPOUT_AT * RATE) + frames
        tape.sound[hole : hole + tape.frames(_DROPOUT_SECONDS)] = 0
        tape.note("dropout", hole, hole + tape.frames(_DROPOUT_SECONDS), (0,))
    return tape
