"""Several microphones of one event: how they lie, which one has the fault, and a gap filled from the others.

Each recording is heard by microphones of their own band, in a made-up room with reflections of their own, and with
noise. Targets: offsets within one sample with noise 6 dB below and a room; "not the same event" for any two others; a
gap filled from the other lanes at least 6 dB better than bridged alone where they are alike.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import soundfile
import soxr
from scipy.signal import butter, fftconvolve, sosfilt

from umbrick.core.errors import ParameterError
from umbrick.core.linking.alignment import NotOneEventError, align
from umbrick.core.linking.deviation import rank
from umbrick.core.linking.filling import filled_from_lanes
from umbrick.core.linking.stacked import Beside, Stack, stacked
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

_SECONDS = 12
_LANES = 3
_GAPS_MS = (5, 20, 60, 200)
_ROOMS_DB = {"alike (room 17 dB below)": 0.02, "apart (room 10 dB below)": 0.1}


def _microphone(sound: np.ndarray, rate: int, seed: int, noise_db: float, room: float, delay: int = 0) -> np.ndarray:
    random = np.random.default_rng(seed)
    edges = random.uniform(30, 150), random.uniform(0.28 * rate, 0.45 * rate)
    response = np.zeros(round(0.3 * rate))
    response[delay] = 1.0
    t = np.arange(len(response))
    tail = random.standard_normal(len(t)) * np.exp(-t / (0.06 * rate)) * (t > delay + 0.002 * rate)
    response += tail * np.sqrt(room / np.sum(tail**2))
    heard = sosfilt(butter(1, edges, "bandpass", fs=rate, output="sos"), fftconvolve(sound, response)[: len(sound)])
    return heard + random.standard_normal(len(heard)) * heard.std() * 10 ** (noise_db / 20)


def _version(sound: np.ndarray, rate: int, key: str) -> Version:
    return Version.of(ArraySource(sound.astype(np.float32), rate, key))


def _offsets(sounds: Sequence[tuple[np.ndarray, int]]) -> None:
    random, errors, missed = np.random.default_rng(1), [], 0
    for number, (sound, rate) in enumerate(sounds):
        offset = int(random.uniform(-0.35, 0.35) * len(sound))
        first = _microphone(sound[max(0, offset) :], rate, 2 * number, -6, 0.5)
        other = _microphone(sound[max(0, -offset) :], rate, 2 * number + 1, -6, 0.5)
        try:
            clock = align(ArraySource(first, rate, "a"), ArraySource(other, rate, "b"))
            errors.append(abs(clock.offset_frames - offset))
        except NotOneEventError:
            missed += 1
    worst = max(errors, default=0)
    print(f"offsets: {len(errors)} of {len(sounds)}, median error {np.median(errors):.2f} samples, worst {worst:.2f}")
    wrong = pairs = 0
    for (one, rate), (other, other_rate) in itertools.combinations(sounds, 2):
        pairs += 1
        try:
            align(ArraySource(one, rate, "a"), ArraySource(other, other_rate, "b"))
            wrong += 1
        except NotOneEventError:
            pass
    print(f"of {pairs} pairs of other events {wrong} are taken for one")


def _drift(sounds: Sequence[tuple[np.ndarray, int]]) -> None:
    rate, random = 48000, np.random.default_rng(2)
    parts = [soxr.resample(sound, own, rate) for sound, own in sounds]
    whole = np.concatenate(
        [parts[i % len(parts)] * random.uniform(0.5, 1) for i in random.permutation(10 * len(parts))]
    )
    whole = whole[: 600 * rate]
    for ppm in (0.0, 12.3, -80.0):
        first = _microphone(whole, rate, 1, -6, 0.5)
        other = soxr.resample(_microphone(whole[4800:], rate, 2, -6, 0.5), 1e6, 1e6 * (1 + ppm * 1e-6), quality="VHQ")
        clock = align(ArraySource(first, rate, "a"), ArraySource(other, rate, "b"))
        print(f"drift over {len(whole) / rate:.0f} s: {ppm:+.1f} ppm measured as {clock.drift_ppm:+.3f}")


def _ranked(sounds: Sequence[tuple[np.ndarray, int]], count: int) -> None:
    random = np.random.default_rng(3)
    found = dict.fromkeys(("crack", "hole", "knock"), 0)
    for number, (sound, rate) in enumerate(sounds):
        lanes = [
            _microphone(sound, rate, 20 * number + n, -40, 0.5, int(random.integers(0, 400))) for n in range(count)
        ]
        for kind in found:
            faulty, at = int(random.integers(count)), int(random.uniform(0.3, 0.7) * len(sound))
            heard = [lane.copy() for lane in lanes]
            length = round({"crack": 0.0015, "hole": 0.02, "knock": 0.03}[kind] * rate)
            place, size = slice(at, at + length), 0.3 * np.abs(lanes[faulty]).max()
            if kind == "crack":
                heard[faulty][place] += 0.5 * size * random.standard_normal(length)
            elif kind == "hole":
                heard[faulty][place] = 0
            else:
                heard[faulty][place] += size * np.sin(np.linspace(0, 4 * np.pi, length)) * np.hanning(length)
            ranking = rank(_stack(heard, rate), at - 100, at + length + 100)
            found[kind] += ranking.lanes[0].lane == faulty
    told = ", ".join(f"{kind} {hits}/{len(sounds)}" for kind, hits in found.items())
    print(f"which of {count}: {told}")


def _stack(lanes: Sequence[np.ndarray], rate: int) -> Stack:
    versions = [_version(lane, rate, str(number)) for number, lane in enumerate(lanes)]
    return stacked(versions[0], [Beside(version, 0) for version in versions[1:]])


def _filled(sounds: Sequence[tuple[np.ndarray, int]]) -> None:
    random = np.random.default_rng(4)
    for name, room in _ROOMS_DB.items():
        for milliseconds in _GAPS_MS:
            gains = []
            for number, (sound, rate) in enumerate(sounds):
                lanes = [_microphone(sound, rate, 20 * number + n, -40, room, 40 * n) for n in range(_LANES)]
                length, at = milliseconds * rate // 1000, int(random.uniform(0.3, 0.7) * len(sound))
                truth = lanes[0][at : at + length].copy()
                lanes[0][at : at + length] = 0
                stack = _stack(lanes, rate)
                place = Place(at, at + length, (0,))
                alone = apply_method(stack.lanes[0].version, method_named("bridge"), {}, [place]).version
                try:
                    filled = filled_from_lanes(stack, at, at + length, (0,)).version
                except ParameterError:
                    continue
                errors = [np.sum((one.read(at, at + length)[:, 0] - truth) ** 2) for one in (alone, filled)]
                gains.append(10 * np.log10(errors[0] / errors[1]))
            share = np.mean(np.array(gains) >= 6)
            gain = f"{np.median(gains):+.1f} dB over bridging alone"
            print(f"{name}, {milliseconds} ms: {gain}, 6 dB or more in {share:.0%}")


def run(files: list[Path]) -> None:
    """Measure and print."""
    sounds = []
    for file in files:
        sound, rate = soundfile.read(file, always_2d=True)
        if rate >= 16000:
            sounds.append((sound.mean(axis=1)[: _SECONDS * rate], rate))
    _offsets(sounds)
    _drift(sounds)
    for count in (2, 3, 9):
        _ranked(sounds, count)
    _filled(sounds)
