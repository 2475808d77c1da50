"""Faults planted in the demo recordings, and the list of where they are."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.signal import butter, sosfilt

Sound = npt.NDArray[np.float64]
"""Audio of shape ``(frames, channels)``."""


class Tape:
    """A recording in the making: its sound, and the faults planted so far."""

    def __init__(self, sound: Sound, rate: int, seed: int) -> None:
        self.sound = sound
        self.rate = rate
        self.random = np.random.default_rng(seed)
        self.planted: list[dict[str, Any]] = []

    def frames(self, seconds: float) -> int:
        """Return a length or position in frames."""
        return round(seconds * self.rate)

    def note(self, kind: str, start: int, stop: int, channels: tuple[int, ...], **detail: Any) -> None:
        """Write down a planted fault."""
        self.planted.append({"kind": kind, "start": start, "end": stop, "channels": list(channels), **detail})

    def add(self, kind: str, start: int, fault: Sound, channels: tuple[int, ...] = (0,), **detail: Any) -> None:
        """Add a mono fault to some channels and write it down."""
        stop = min(start + len(fault), len(self.sound))
        self.sound[start:stop, list(channels)] += fault[: stop - start, np.newaxis]
        self.note(kind, start, stop, channels, **detail)

    def raise_level(self, start: int, stop: int, gain_db: float, ramp_seconds: float = 0.08) -> None:
        """Make a stretch louder, with ramps."""
        ramp = self.frames(ramp_seconds)
        curve = np.zeros(len(self.sound))
        curve[start:stop] = 1.0
        curve = np.convolve(curve, np.hanning(2 * ramp) / np.hanning(2 * ramp).sum(), "same")
        self.sound *= 10 ** (gain_db * curve / 20)[:, np.newaxis]

    def clip(self, rail_dbfs: float, channels: tuple[int, ...], spans: list[tuple[int, int]] | None = None) -> None:
        """Cut the sound off at a rail, and write down every run of samples cut."""
        rail = 10 ** (rail_dbfs / 20)
        for channel in channels:
            wave = self.sound[:, channel]
            over = np.abs(wave) > rail
            edges = np.flatnonzero(np.diff(over, prepend=False, append=False))
            for start, stop in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
                self.note("clipping", start, stop, (channel,), rail_dbfs=rail_dbfs)
            np.clip(wave, -rail, rail, out=wave)


def pop(rate: int, level: float) -> Sound:
    """A breath hitting the microphone: a decaying thump below 120 Hz."""
    t = np.arange(round(0.09 * rate)) / rate
    swell = np.minimum(1, t / 0.004) * np.minimum(1, (t[-1] - t) / 0.03)
    return level * np.sin(2 * np.pi * (95 - 300 * t) * t) * np.exp(-t / 0.028) * swell


def mouth_click(rate: int, level: float, random: np.random.Generator) -> Sound:
    """A wet click of the tongue, 3 ms between 2 and 6 kHz."""
    t = np.arange(round(0.003 * rate)) / rate
    return level * np.sin(2 * np.pi * random.uniform(2500, 5500) * t) * np.exp(-t / 0.0007)


def crackling(frames: int, rate: int, level: float, random: np.random.Generator) -> Sound:
    """An overdriven consonant: noise that breaks up in ragged bursts."""
    noise = sosfilt(butter(2, (2500, 9000), "bandpass", fs=rate, output="sos"), random.standard_normal(frames))
    gate = (random.random(frames // 48 + 1) > 0.55).repeat(48)[:frames]
    return level * noise * gate * np.hanning(frames)


def kettle(frames: int, rate: int, level: float) -> Sound:
    """A kettle coming to the boil: a whistle that glides from 1.9 to 2.4 kHz, with an overtone."""
    t = np.arange(frames) / rate
    glide = 1900 * t + 500 * t**2 / (2 * t[-1]) + 6 * np.sin(2 * np.pi * 5.5 * t) / 5.5
    swell = np.minimum(1, t / 0.5) * np.minimum(1, (t[-1] - t) / 0.15)
    return level * swell * (np.sin(2 * np.pi * glide) + 0.2 * np.sin(4 * np.pi * glide))


def hum(frames: int, rate: int, level: float, fundamental: float = 50.02) -> Sound:
    """Mains hum with seven harmonics."""
    t = np.arange(frames) / rate
    weights = (1.0, 0.5, 0.7, 0.2, 0.35, 0.1, 0.2)
    lines = [w * np.sin(2 * np.pi * fundamental * k * t + k) for k, w in enumerate(weights, 1)]
    return np.asarray(level * np.sum(lines, axis=0))


def hiss(frames: int, rate: int, level: float, random: np.random.Generator) -> Sound:
    """Tape hiss, falling off above 6 kHz."""
    noise = random.standard_normal(frames)
    return level * sosfilt(butter(1, 6000, fs=rate, output="sos"), noise)


def water(frames: int, rate: int, level: float, random: np.random.Generator) -> Sound:
    """Water running over a weir: slowly swelling noise between 150 and 1500 Hz."""
    noise = sosfilt(butter(1, (150, 1500), "bandpass", fs=rate, output="sos"), random.standard_normal(frames))
    slow = np.convolve(random.standard_normal(frames // 2048 + 8), np.hanning(7) / 3, "same")
    swell = np.interp(np.arange(frames), np.arange(len(slow)) * 2048, 1 + 0.3 * slow)
    return level * noise * swell
