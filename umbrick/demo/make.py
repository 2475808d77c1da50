"""Makes the demo recordings and their truth files: ``python -m umbrick.demo.make [NAME…]``.

The interview and the call need espeak-ng installed.

Only whoever changes the demo runs this; what it made ships with Umbrick. All of it is invented: the canal, its
keepers, the voice and the bell.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import butter, fftconvolve, sosfilt

from umbrick.demo import gates, recordings, truth_of
from umbrick.demo.call import radio_call
from umbrick.demo.choir import choir
from umbrick.demo.faults import Sound, Tape, crackling, hiss, hum, kettle, mouth_click, pop, water
from umbrick.demo.speaking import spoken

_SENTENCES = (
    "I came to the Ostermoor Cut when I was nineteen, and I kept the third lock for forty one years.",
    "People ask about the flood year. Well. The water came over the sill in one night.",
    "Six inches an hour, my sister said, and she was never a woman to exaggerate.",
    "I ran along the towpath and I shouted: open the gates! Open the gates!",
    "Paddles were jammed. Both of them, packed with reeds and half a hen house.",
    "For the first time in my life I heard the lock bell ring by itself, in the wind.",
    "She laughed at me! Ha! Ha, ha, ha! There you stand in your night shirt, she said.",
    "So I took the long windlass, and I wound until my hands were raw.",
    "Sluices first, that is the rule. Slowly, slowly, or the surge takes the bridge.",
    "And the kettle was on the stove the whole time, whistling away to itself.",
    "By five in the morning the pound was level, and the pump house answered us at last.",
    "Nobody drowned. We lost the reed boat, and eleven hens, and my good boots.",
    "Would I do it again? Ha! I would do it tomorrow!",
    "But they have filled the cut now. You can walk across where the third lock was.",
)
_SHOUTS = {3: 19.5, 6: 18.0, 12: 16.5}
_POPPED = (1, 4, 11)
_CRACKLING = 5
_WHISTLED = 9
_NOISY_PAUSE_AFTER = 7


def _room(wave: Sound, rate: int, random: np.random.Generator) -> Sound:
    t = np.arange(round(0.25 * rate)) / rate
    tail = random.standard_normal(len(t)) * np.exp(-t / 0.05)
    tail = sosfilt(butter(1, 3500, fs=rate, output="sos"), tail)
    tail[0] = 0
    return wave + 0.055 * fftconvolve(wave, tail)[: len(wave)]


def _bright_stretches(wave: Sound, rate: int) -> list[tuple[int, int]]:
    """Return where the voice hisses: high-frequency energy well over that below."""
    size = round(0.012 * rate)
    high = sosfilt(butter(4, 5000, "highpass", fs=rate, output="sos"), wave)
    count = len(wave) // size
    energy = (np.square(part[: count * size]).reshape(count, size).mean(axis=1) for part in (high, wave))
    high_energy, all_energy = energy
    bright = (high_energy > 0.35 * all_energy) & (all_energy > 2e-5)
    edges = np.flatnonzero(np.diff(bright, prepend=False, append=False))
    pairs = zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True)
    return [(a * size, b * size) for a, b in pairs if (b - a) * size > 0.045 * rate]


def keeper_interview() -> Tape:
    """A lock-keeper remembers the flood year: hot shouts and laughs, and the usual faults of a voice on tape."""
    rate = 48000
    random = np.random.default_rng(1953)
    pause = np.zeros(round(0.55 * rate))
    parts, starts, at = [pause], [], len(pause)
    for number, text in enumerate(_SENTENCES):
        wave = spoken(text, rate, "en-gb", 148, 32)
        gap = np.zeros(round((2.6 if number == _NOISY_PAUSE_AFTER else random.uniform(0.5, 0.9)) * rate))
        starts.append((at, at + len(wave)))
        parts += [wave, gap]
        at += len(wave) + len(gap)
    wave = _room(np.concatenate(parts), rate, random)
    wave *= 0.24 / np.abs(wave).max()
    tape = Tape(wave[:, np.newaxis], rate, 1954)

    bright = _bright_stretches(wave, rate)
    for start, stop in bright[3::5]:
        band = sosfilt(butter(2, (4500, 10000), "bandpass", fs=rate, output="sos"), wave[start:stop])
        tape.add("sibilance", start, 2.2 * band * np.hanning(stop - start))
    for number in _POPPED:
        onset = starts[number][0] + _onset(wave[slice(*starts[number])])
        tape.add("plosive", onset, pop(rate, 0.5))
    onset = starts[_CRACKLING][0] + _onset(wave[slice(*starts[_CRACKLING])])
    tape.add("crackle", onset, crackling(tape.frames(0.11), rate, 0.25, tape.random))
    for start, stop in starts:
        for position in tape.random.uniform(stop, stop + 0.4 * rate, 2).astype(int):
            if tape.random.random() < 0.6 and position < len(wave) - rate // 10 and start:
                tape.add("mouth_click", int(position), mouth_click(rate, 0.05, tape.random))
    start, stop = starts[_WHISTLED]
    tape.add("intrusion", start + rate // 2, kettle(tape.frames(2.4), rate, 0.03), band_hz=[1850, 2450])
    begin, end = starts[_NOISY_PAUSE_AFTER][1], starts[_NOISY_PAUSE_AFTER + 1][0]
    tape.add("noisy_pause", begin, water(end - begin, rate, 0.012, tape.random) * np.hanning(end - begin) ** 0.3)
    for number, gain_db in _SHOUTS.items():
        tape.raise_level(*starts[number], gain_db)
    frames = len(wave)
    tape.add("hum", 0, hum(frames, rate, 0.0006), fundamental_hz=50.02)
    tape.add("hiss", 0, hiss(frames, rate, 0.0005, tape.random))
    tape.clip(-0.1, (0,))
    return tape


def _onset(wave: Sound) -> int:
    return int(np.argmax(np.abs(wave) > 0.08 * np.abs(wave).max()))


_PARTIALS = ((0.5, 0.45, 9.0), (1.0, 1.0, 6.0), (1.19, 0.7, 4.5), (1.5, 0.5, 3.2), (2.0, 0.8, 3.0), (2.51, 0.45, 1.9),
             (2.66, 0.3, 1.6), (3.01, 0.35, 1.3), (4.1, 0.3, 0.8), (5.45, 0.2, 0.5), (6.8, 0.15, 0.35))  # fmt: skip


def _strike(rate: int, seconds: float, random: np.random.Generator) -> Sound:
    t = np.arange(round(seconds * rate)) / rate
    wave = np.zeros_like(t)
    for ratio, level, decay in _PARTIALS:
        for beat in (0.0, 0.7):
            phase = random.uniform(0, 2 * np.pi)
            wave += level * np.sin(2 * np.pi * (436 * ratio + beat) * t + phase) * np.exp(-t / (decay / 2)) / 2
    clank = sosfilt(butter(2, (1500, 8000), "bandpass", fs=rate, output="sos"), random.standard_normal(len(t)))
    wave += 0.9 * clank * np.exp(-t / 0.008)
    return wave * np.minimum(1, t / 0.0008) * np.minimum(1, (seconds - t) / 1.5)


def lock_bell() -> Tape:
    """The warning bell, too hot on the left."""
    rate = 44100
    random = np.random.default_rng(1871)
    frames = 26 * rate
    sound = np.zeros((frames, 2))
    strikes = [0.8, 3.0, 5.2, 7.4, 9.9, 12.6, 15.6, 19.0]
    for number, second in enumerate(strikes):
        level = (1.0, 0.95, 0.9, 0.8, 0.62, 0.5, 0.42, 0.36)[number]
        start = round(second * rate)
        wave = level * _strike(rate, 7.0, random)[: frames - start]
        late = round(0.00035 * rate)
        sound[start : start + len(wave), 0] += wave
        sound[start + late : start + len(wave), 1] += 0.55 * wave[: len(wave) - late]
    sound *= 0.9 / np.abs(sound[:, 1]).max()
    sound += np.stack([water(frames, rate, 0.0012, random) for _ in range(2)], axis=1)
    tape = Tape(sound, rate, 1872)
    tape.clip(-0.3, (0,))
    for second in strikes[:3]:
        at = round((second + 0.62) * rate)
        size = 0.35 * (1 if tape.sound[at, 0] < 0 else -1)
        tape.add("click", at, np.array([size]), (0,), samples=1)
    return tape


def write(tape: Tape, path: Path, subtype: str) -> None:
    """Write a tape and its truth."""
    bits = {"PCM_16": 16, "PCM_24": 24}[subtype]
    sound = np.clip(np.round(tape.sound * 2 ** (bits - 1)) / 2 ** (bits - 1), -1, 1 - 2.0 ** (1 - bits))
    soundfile.write(path, sound, tape.rate, subtype=subtype)
    write_truth(tape, path)


def write_truth(tape: Tape, path: Path) -> None:
    """Write what was planted in a tape beside its recording."""
    planted = sorted(tape.planted, key=lambda fault: (fault["start"], fault["kind"]))
    lines = ",\n".join(json.dumps(fault) for fault in planted)
    truth_of(path).write_text(f'{{"rate": {tape.rate}, "planted": [\n{lines}\n]}}\n')


_MELODY = (
    (67, 2), (64, 1), (72, 2), (71, 1), (69, 1), (71, 1), (69, 1), (67, 3),
    (65, 2), (62, 1), (71, 2), (69, 1), (67, 1), (65, 1), (62, 1), (64, 3),
    (67, 2), (64, 1), (72, 2), (76, 1), (74, 1), (72, 1), (69, 1), (65, 3),
    (69, 1), (67, 1), (65, 1), (64, 2), (60, 1), (62, 1), (65, 1), (62, 1), (60, 3),
)  # fmt: skip
"""Notes (as semitones, 69 is 440 Hz) and their beats: sixteen bars of three."""

_BASS = (48, 48, 43, 48, 50, 43, 43, 48, 48, 45, 50, 41, 41, 48, 43, 48)
_CHORDS = {48: (60, 64, 67), 43: (59, 62, 65), 50: (57, 62, 65), 45: (57, 60, 64), 41: (57, 60, 65)}


def _reed(note: float, seconds: float, rate: int, random: np.random.Generator) -> Sound:
    """A pair of reeds, one a little sharp, breathing in and letting go."""
    t = np.arange(round(seconds * rate)) / rate
    frequency = 440 * 2 ** ((note - 69) / 12)
    wave = np.zeros_like(t)
    for cents in (0.0, 7.0):
        phase = 2 * np.pi * frequency * 2 ** (cents / 1200) * t + random.uniform(0, 2 * np.pi)
        for harmonic in range(1, int(min(24, 0.45 * rate / frequency))):
            wave += np.sin(harmonic * phase) / harmonic ** (1.1 + 0.2 * (harmonic % 2 == 0))
    swell = np.minimum(1, t / 0.035) * np.minimum(1, (seconds - t) / 0.06)
    return wave * np.clip(swell, 0, 1) * (1 + 0.04 * np.sin(2 * np.pi * 5.2 * t))


def concertina_waltz() -> Tape:
    """A waltz from a worn disc: clicks, crackle, single wrong samples, a dropout, and the turntable's rumble."""
    rate, beat = 44100, 0.42
    random = np.random.default_rng(1926)
    frames = round((32 * 3 * beat + 4.0) * rate)
    sound = np.zeros((frames, 2))

    def play(note: float, at: float, beats: float, level: float, left: float) -> None:
        wave = level * _reed(note, 0.96 * beats * beat, rate, random)
        start = round(at * rate)
        part = wave[: frames - start, np.newaxis]
        sound[start : start + len(part)] += part * (left, 1 - left)

    lead = 1.2
    for turn in range(2):
        at = lead + turn * 48 * beat
        for note, beats in _MELODY:
            play(note, at, beats, 0.16, 0.6)
            at += beats * beat
        for bar, bass in enumerate(_BASS):
            at = lead + (turn * 48 + 3 * bar) * beat
            play(bass - 12, at, 1.0, 0.13, 0.4)
            for off in (1, 2):
                for note in _CHORDS[bass]:
                    play(note - 12, at + off * beat, 0.6, 0.04, 0.45)
    play(36, lead + 96 * beat, 5.0, 0.05, 0.5)
    sound *= 0.5 / np.abs(sound).max()
    tape = Tape(sound, rate, 1927)
    rumble = sosfilt(butter(2, (12, 40), "bandpass", fs=rate, output="sos"), random.standard_normal(frames))
    tape.add("rumble", 0, 0.006 * rumble / rumble.std(), (0, 1))
    tape.add("hiss", 0, hiss(frames, rate, 0.0004, tape.random), (0, 1))
    for second in random.uniform(2, frames / rate - 2, 40):
        ticks = mouth_click(rate, float(random.uniform(0.05, 0.25)), random)[: random.integers(12, 60)]
        tape.add("click", round(second * rate), ticks, (0, 1) if random.random() < 0.6 else (0,))
    for second in (9.1, 24.6, 33.0):
        tape.add("crackle", round(second * rate), crackling(tape.frames(0.6), rate, 0.04, tape.random), (0, 1))
    last = lead + 96 * beat
    for second, size in ((last + 0.5, 0.02), (last + 0.9, -0.016), (last + 1.3, 0.02), (14.07, 0.12), (21.4, -0.1)):
        tape.add("click", round(second * rate), np.array([size]), (0,), samples=1)
    hole = round((lead + 30.3 * beat) * rate)
    tape.sound[hole : hole + tape.frames(0.012)] = 0
    tape.note("dropout", hole, hole + tape.frames(0.012), (0, 1))
    return tape


def paddle_gear() -> Tape:
    """The winding gear at 96 beats a minute: a loop whose seam clicks, whose tail is too long, whose edge is hard."""
    rate, tempo = 48000, 96
    beat = 60 * rate // tempo
    random = np.random.default_rng(1911)
    bar, frames = 4 * beat, 8 * beat + round(1.7 * rate)
    t = np.arange(frames) / rate
    groan = sum(level * np.sin(2 * np.pi * 73.4 * n * t + n) for n, level in ((1, 0.5), (2, 0.25), (3, 0.2), (5, 0.08)))
    turning = 0.55 + 0.45 * np.cos(2 * np.pi * (t * tempo / 60 - 0.1))
    sound = 0.12 * groan * turning
    for eighth in range(2 * 8 + 3):
        start = eighth * beat // 2
        length = round(0.22 * rate)
        knock = np.arange(length) / rate
        ring = sum(
            np.sin(2 * np.pi * f * knock + f) * np.exp(-knock / d) for f, d in ((612, 0.03), (1430, 0.02), (2890, 0.01))
        )
        scrape = sosfilt(butter(2, (900, 6000), "bandpass", fs=rate, output="sos"), random.standard_normal(length))
        level = (0.3 if eighth % 2 == 0 else 0.16) * (1.25 if eighth % 8 == 0 else 1.0)
        wave = level * (0.5 * ring + 0.6 * scrape * np.exp(-knock / 0.012)) * np.minimum(1, knock / 0.0006)
        part = wave[: frames - start]
        sound[start : start + len(part)] += part
    sound += water(frames, rate, 0.0015, random)
    tape = Tape((sound * 0.8 / np.abs(sound).max())[:, np.newaxis], rate, 1912)
    tape.note("hard_edge", 0, 1, (0,))
    tape.note("hard_edge", frames - 1, frames, (0,))
    tape.note("loop_seam", bar - 1, bar, (0,), tempo=tempo, beats=4)
    return tape


_MADE: dict[str, tuple[Callable[[], Tape], str]] = {
    "keeper-interview": (keeper_interview, "PCM_16"),
    "radio-call": (radio_call, "PCM_16"),
    "lock-bell": (lock_bell, "PCM_24"),
    "concertina-waltz": (concertina_waltz, "PCM_16"),
    "paddle-gear": (paddle_gear, "PCM_24"),
    "choir-left": (partial(choir, "choir-left"), "PCM_16"),
    "choir-right": (partial(choir, "choir-right"), "PCM_16"),
    "choir-spot": (partial(choir, "choir-spot"), "PCM_16"),
}

if __name__ == "__main__":
    for path in recordings():
        if path.stem in sys.argv[1:] or len(sys.argv) == 1:
            path.parent.mkdir(parents=True, exist_ok=True)
            if path.suffix == ".mkv":
                write_truth(gates.write(path), path)
                continue
            make, subtype = _MADE[path.stem]
            write(make(), path, subtype)
