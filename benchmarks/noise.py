"""Denoising: gain in SI-SDR and segmental signal-to-noise ratio, against a textbook estimator with the same print.

White, pink and tape-like noise at 10 and 20 dB; a print of a second of the noise alone, or none (adaptive). Targets:
half a dB over the textbook everywhere; adaptively within 1.5 dB of the print on speech and never below the input;
musical noise (the variance of the log spectrum in pauses) no more than the input's; attacks within 1 dB in their first
10 ms; 40 times real time.
"""

from __future__ import annotations

import time
from collections import defaultdict
from pathlib import Path
from zlib import crc32

import numpy as np

from benchmarks.corpus import as_a_file, clean, is_speech
from benchmarks.textbook_suppression import suppressed
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.tiles import Tiles
from umbrick.core.mend.registry import METHODS
from umbrick.core.timeline.version import Version

_SECONDS = 10
_MADE = "print", "textbook", "adaptive"
_MOST = {"reduction_db": 40.0}


def coloured(kind, frames, rate, random):
    """Return noise of a kind."""
    spectrum = np.fft.rfft(random.standard_normal(frames))
    hz = np.fft.rfftfreq(frames, 1 / rate)
    if kind == "pink":
        spectrum /= np.sqrt(np.maximum(hz, 20))
    elif kind == "tape":
        spectrum *= np.sqrt(0.15 + (hz / 3000) ** 2 / (1 + (hz / 9000) ** 4)) / np.sqrt(
            1 + (60 / np.maximum(hz, 1)) ** 2
        )
    return np.fft.irfft(spectrum, frames)


def si_sdr(made, truth):
    """Return the scale-invariant signal-to-distortion ratio (J. Le Roux et al., 2019) in dB."""
    scaled = np.dot(made, truth) / np.dot(truth, truth) * truth
    return 10 * np.log10(np.sum(scaled**2) / np.sum((made - scaled) ** 2))


def segmental(made, truth, rate):
    """Return the mean of the ratios in dB, from −10 to 35, of stretches of 30 ms that are not silent."""
    frame = round(0.03 * rate)
    count = len(truth) // frame
    power = np.square(truth[: count * frame]).reshape(count, frame).sum(axis=1)
    error = np.square((made - truth)[: count * frame]).reshape(count, frame).sum(axis=1)
    sounding = power > 1e-4 * np.percentile(power, 95)
    return float(np.clip(10 * np.log10((power / (error + 1e-12))[sounding]), -10, 35).mean())


def denoised(wave, rate, settings):
    """Return a wave through the treatment, as a course would."""
    version = Version.of(as_a_file(wave[:, np.newaxis], rate, 32))
    ground = Ground(version, version, Tiles())
    step = learned(ground, (), new_step(METHODS["denoise"], settings, (0,), None, ()))
    return ground.through((step,)).read(0, version.frames)[:, 0].astype(np.float64)


def musical(made, pauses):
    """Return the variance in dB² of the log spectrum in the quiet windows of a wave."""
    windows = np.lib.stride_tricks.sliding_window_view(made, 1024)[::512][: len(pauses)][pauses]
    levels_db = 20 * np.log10(np.abs(np.fft.rfft(windows * np.hanning(1024), axis=1))[:, 20:-20] + 1e-9)
    return float(np.var(levels_db - levels_db.mean(axis=0)))


def first_of_attacks_db(made, truth, rate):
    """Return by how much the first 10 ms of the attacks of a recording have changed in level, in dB: the median."""
    step = rate // 100
    count = len(truth) // step
    power = np.square(truth[: count * step]).reshape(count, step).sum(axis=1)
    rises = power[4:] > 30 * (power[3:-1] + 1e-9 * power.max())
    loud = power[4:] > 0.1 * np.percentile(power, 99)
    changed = [
        10 * np.log10(np.square(made[at * step : (at + 1) * step]).sum() / power[at])
        for at in (np.flatnonzero(rises & loud) + 4).tolist()
    ]
    return float(np.median(changed)) if changed else np.nan


def run(files: list[Path]) -> None:
    """Measure and print."""
    gains, adaptive = defaultdict(list), defaultdict(list)
    songs, attacks, unharmed = [], [], []
    spent = sounded = 0.0
    for path in files:
        sound, rate = clean(path)
        truth = sound[: _SECONDS * rate].mean(axis=1)
        random = np.random.default_rng(crc32(path.name.encode()))
        group = "speech" if is_speech(path) else "music"
        unharmed.append((si_sdr(denoised(truth, rate, {}), truth), path.stem))
        for kind in ("white", "pink", "tape"):
            noise = coloured(kind, len(truth) + rate, rate, random)
            for ratio_db in (10, 20):
                scaled = noise * np.sqrt(np.mean(truth**2) / np.mean(noise**2) / 10 ** (ratio_db / 10))
                alone, noisy = scaled[:rate], truth + scaled[rate:]
                began = time.perf_counter()
                ours = denoised(np.concatenate([alone, noisy]), rate, {**_MOST, "print": f"0-{rate}"})[rate:]
                spent, sounded = spent + time.perf_counter() - began, sounded + (len(noisy) + rate) / rate
                textbook = suppressed(noisy, alone, rate)
                own = denoised(noisy, rate, _MOST)
                before = np.array([si_sdr(noisy, truth), segmental(noisy, truth, rate)])
                for made, into in ((ours, 0), (textbook, 1), (own, 2)):
                    after = np.array([si_sdr(made, truth), segmental(made, truth, rate)])
                    gains[group, ratio_db, kind, into].append(after - before)
                adaptive[group].append((*(gains[group, ratio_db, kind, 2][-1] - gains[group, ratio_db, kind, 0][-1]),))
                windows = np.lib.stride_tricks.sliding_window_view(truth, 1024)[::512]
                level = np.square(windows).sum(axis=1)
                pauses = level < 1e-4 * np.percentile(level, 95)
                if pauses.sum() > 20:
                    gently = denoised(noisy, rate, {})
                    songs.append([musical(made, pauses) for made in (noisy, gently, ours, textbook)])
                attacks.append(first_of_attacks_db(ours, truth, rate))
    for group, ratio_db, kind in sorted({key[:3] for key in gains}):
        rows = [np.mean(gains[group, ratio_db, kind, into], axis=0) for into in range(3)]
        worst = np.min([gains[group, ratio_db, kind, 2]], axis=(0, 1))
        told = (f"{name} {gain[0]:5.1f} / {gain[1]:4.1f}" for name, gain in zip(_MADE, rows, strict=True))
        print(f"{group:7}{ratio_db:3} dB {kind:6}{'   '.join(told)}, worst {worst[0]:4.1f} / {worst[1]:4.1f}")
    for group, found in adaptive.items():
        print(f"adaptive against the print, {group}: {np.mean(found):+.2f} dB, worst {np.min(found):+.1f}")
    print(
        f"musical noise in dB²: input, at the defaults, at 40 dB, textbook: {np.mean(songs, axis=0).round(1).tolist()}"
    )
    print(f"attacks, first 10 ms: median {np.nanmedian(attacks):+.2f} dB, worst {np.nanmin(attacks):+.2f}")
    told = ", ".join(f"{db:.0f} dB {name}" for db, name in sorted(unharmed))
    print(f"clean sound at the defaults, SI-SDR to itself: {told}")
    print(f"{sounded / spent:.0f} times real time, learning included")
