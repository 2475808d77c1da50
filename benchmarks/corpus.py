"""Clean sound to plant faults in."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import soundfile
import soxr

from umbrick.core.sound.source import ArraySource
from umbrick.demo import truth_of


def load(path: Path):
    """Return a recording as float64 of shape (frames, channels), and its rate."""
    return soundfile.read(path, dtype="float64", always_2d=True)


def clean(path: Path):
    """Return a recording and its rate, without the parts where its truth file, if any, lists short faults.

    What is left is joined by crossfades, so that no new fault is made.
    """
    sound, rate = load(path)
    if not truth_of(path).exists():
        return sound, rate
    keep = np.ones(len(sound), bool)
    for fault in json.loads(truth_of(path).read_text())["planted"]:
        if fault["end"] - fault["start"] < len(sound) // 2 and fault["kind"] not in ("hard_edge", "loop_seam"):
            keep[max(0, fault["start"] - rate // 4) : fault["end"] + rate // 4] = False
    edges = np.flatnonzero(np.diff(keep, prepend=False, append=False))
    fade = rate // 20
    rise = np.sin(np.linspace(0, np.pi / 2, fade))[:, np.newaxis]
    joined = np.zeros((0, sound.shape[1]))
    for start, stop in zip(edges[::2], edges[1::2], strict=True):
        part = sound[start:stop].copy()
        if len(part) < 4 * fade:
            continue
        if len(joined):
            part[:fade] = part[:fade] * rise + joined[-fade:] * rise[::-1]
            joined = joined[:-fade]
        joined = np.concatenate([joined, part])
    return joined, rate


def as_a_file(sound, rate, bits=24) -> ArraySource:
    """Return a sound of shape (frames, channels) as a file of so many bits has it."""
    return ArraySource((np.round(sound * 2.0 ** (bits - 1)) / 2.0 ** (bits - 1)).astype(np.float32), rate, "s")


def at_speed(sound, rate, speed, at_rate=None):
    """Return a sound played at another speed, and a little lower in level.

    Other speeds are other voices and other rooms, so to say.
    """
    at_rate = at_rate or rate
    return 0.85 * (soxr.resample(sound, rate * speed, at_rate) if rate * speed != at_rate else sound)


def loudest(sound, rate, seconds=1.2):
    """Return the loudest stretch of the first channel, at a peak of 1."""
    wave = sound[:, 0]
    length = min(len(wave), round(seconds * rate))
    energy = np.concatenate([[0], np.cumsum(wave**2)])
    start = int(np.argmax(energy[length:] - energy[:-length]))
    stretch = wave[start : start + length]
    return stretch / np.abs(stretch).max()


def is_speech(path: Path) -> bool:
    """Whether a file is counted as speech, by its name."""
    return any(word in path.stem for word in ("speech", "voice", "interview"))


def is_percussive(path: Path) -> bool:
    """Whether a file is counted as percussive music, by its name."""
    return any(word in path.stem for word in ("drum", "perc", "beat", "gear", "bell"))


def group_of(path: Path) -> str:
    """Return which of three groups a recording's figures belong to."""
    return "speech" if is_speech(path) else "percussive" if is_percussive(path) else "tonal"
