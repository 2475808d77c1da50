"""Dereverberation: speech in made-up rooms, against a textbook estimator that is told the room's decay.

Rooms of decaying noise and of mirrored sources, decaying by 60 dB in 0.4 to 0.9 s. What comes in the first 50 ms is
early, and wanted. Targets at an amount of 0.7: late energy in pauses down by 6 dB, SI-SDR to the early sound better by
1 dB in the mean and never worse; eight times real time. Dry recordings are declined.
"""

from __future__ import annotations

import itertools
import time
from pathlib import Path
from zlib import crc32

import numpy as np
import scipy.signal

from benchmarks.corpus import as_a_file, clean, is_speech
from benchmarks.noise import si_sdr
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import ParameterError
from umbrick.core.mend.registry import METHODS
from umbrick.core.timeline.version import Version

_SECONDS = 12
_AMOUNT = 0.7
_EARLY_SECONDS, _LEBART_SECONDS = 0.05, 0.064


def of_noise(seconds, rate, random):
    """Return the response of a room: the direct sound, and noise that decays faster the higher it is."""
    frames = round(1.2 * seconds * rate)
    at = np.arange(frames) / rate
    noise, tail = random.standard_normal(frames), np.zeros(frames)
    for low, high, share in ((20, 500, 1.15), (500, 2000, 1.0), (2000, 0.48 * rate, 0.7)):
        band = scipy.signal.butter(4, [low, high], "bandpass", fs=rate, output="sos")
        tail += scipy.signal.sosfilt(band, noise) * 10 ** (-3 * at / (seconds * share))
    tail[: rate // 250] *= np.linspace(0, 1, rate // 250)
    tail *= 10 ** (random.uniform(-6, 6) / 20) / np.sqrt(np.sum(tail**2))
    tail[0] += 1
    return tail


def of_mirrors(seconds, rate, random):
    """Return the response of a box with even walls, by mirrored sources (J. B. Allen, D. A. Berkley, 1979)."""
    size = random.uniform([4, 3, 2.4], [8, 6, 3.5])
    surface = 2 * (size[0] * size[1] + size[0] * size[2] + size[1] * size[2])
    reflected = np.sqrt(1 - min(0.95, 0.161 * size.prod() / (surface * seconds)))
    source = size * random.uniform(0.3, 0.7, 3)
    ear = np.clip(source + np.array([random.uniform(0.8, 2.5), 0.1, 0.05]), 0.2, size - 0.2)
    frames = round(1.2 * seconds * rate)
    counts = np.minimum(np.ceil(343 * 1.2 * seconds / (2 * size)).astype(int), 25)
    grid = np.meshgrid(*(np.arange(-count, count + 1) for count in counts), indexing="ij")
    response = np.zeros(frames)
    for sides in itertools.product((0, 1), repeat=3):
        away = [
            (1 - 2 * side) * source[axis] + 2 * grid[axis] * size[axis] - ear[axis] for axis, side in enumerate(sides)
        ]
        bounces = sum(np.abs(2 * grid[axis] - side) for axis, side in enumerate(sides))
        metres = np.sqrt(sum(part**2 for part in away))
        at = np.round(metres / 343 * rate).astype(int)
        inside = at < frames
        np.add.at(response, at[inside], (reflected**bounces / np.maximum(metres, 0.1))[inside])
    response = response[np.argmax(response > 0) :]
    return scipy.signal.sosfilt(scipy.signal.butter(1, 50, "highpass", fs=rate, output="sos"), response / response[0])


def textbook(wave, rate, seconds):
    """Return a wave without the late reverberation that a known decay foretells (K. Lebart et al., 2001)."""
    hop = round(0.016 * rate)
    age = round(_LEBART_SECONDS * rate / hop)
    _, _, spectra = scipy.signal.stft(wave, rate, nperseg=2 * hop)
    power = np.abs(spectra) ** 2
    smooth = scipy.signal.lfilter([0.5], [1, -0.5], power, axis=1)
    late = np.zeros_like(power)
    late[:, age:] = 10 ** (-6 * age * hop / rate / seconds) * smooth[:, :-age]
    gain = np.maximum(1 - np.sqrt(late / (power + 1e-20)), 0.1)
    return scipy.signal.istft(spectra * gain, rate, nperseg=2 * hop)[1][: len(wave)]


def dereverbed(wave, rate):
    """Return a wave through the treatment with an amount of 1, as a course would."""
    version = Version.of(as_a_file(wave[:, np.newaxis], rate, 32))
    ground = Ground(version, version, Tiles())
    step = learned(ground, (), new_step(METHODS["dereverb"], {"amount": 1.0}, (0,), None, ()))
    return ground.through((step,)).read(0, version.frames)[:, 0].astype(np.float64)


def in_pauses_db(made, wet, dry, rate):
    """Return by how much what sounds where the dry recording is silent has changed, in dB."""
    frame = rate // 50
    dry, wet, made = (
        np.square(wave[: len(wave) // frame * frame]).reshape(-1, frame).sum(axis=1) for wave in (dry, wet, made)
    )
    silent = dry < 1e-4 * np.percentile(dry, 95)
    return 10 * np.log10(made[silent].sum() / wet[silent].sum()) if silent.any() else np.nan


def run(files: list[Path]) -> None:
    """Measure and print."""
    rows, sounded, spent = [], 0.0, 0.0
    declined = []
    for path in filter(is_speech, files):
        sound, rate = clean(path)
        dry = sound[: _SECONDS * rate].mean(axis=1)
        random = np.random.default_rng(crc32(path.name.encode()))
        try:
            dereverbed(dry, rate)
            declined.append(False)
        except ParameterError:
            declined.append(True)
        for seconds, room in itertools.product((0.4, 0.6, 0.9), (of_noise, of_mirrors)):
            response = room(seconds, rate, random)
            early = response.copy()
            early[round(_EARLY_SECONDS * rate) :] = 0
            wet, wanted = (scipy.signal.fftconvolve(dry, part)[: len(dry)] for part in (response, early))
            began = time.perf_counter()
            whole = dereverbed(wet, rate)
            spent, sounded = spent + time.perf_counter() - began, sounded + len(wet) / rate
            made = wet + _AMOUNT * (whole - wet)
            known = wet + _AMOUNT * (textbook(wet, rate, seconds) - wet)
            before = si_sdr(wet, wanted)
            rows.append(
                [
                    seconds,
                    si_sdr(made, wanted) - before,
                    si_sdr(known, wanted) - before,
                    in_pauses_db(made, wet, dry, rate),
                    in_pauses_db(known, wet, dry, rate),
                ]
            )
    found = np.array(rows)
    for seconds in (0.4, 0.6, 0.9):
        own = found[found[:, 0] == seconds, 1:]
        mean, worst = np.nanmean(own, axis=0), np.nanmin(own, axis=0)
        print(
            f"{seconds} s: SI-SDR {mean[0]:+.2f} dB, worst {worst[0]:+.2f} (textbook {mean[1]:+.2f}, {worst[1]:+.2f}); "
            f"late in pauses {mean[2]:+.1f} dB, least {np.nanmax(own[:, 2]):+.1f} (textbook {mean[3]:+.1f})"
        )
    mean = np.nanmean(found[:, 1:], axis=0)
    print(f"all: SI-SDR {mean[0]:+.2f} dB (textbook {mean[1]:+.2f})")
    print(f"late in pauses {mean[2]:+.1f} dB (textbook {mean[3]:+.1f})")
    print(f"dry recordings declined: {sum(declined)} of {len(declined)}")
    print(f"{sounded / max(spent, 1e-9):.0f} times real time, learning included")
