"""What clean sound goes through before it reaches an editor: other rates, few bits, coders, rooms, a little noise.

None of it is a fault that a survey should list; each comes as ``(sound, rate, bits)``.
"""

from __future__ import annotations

import io

import numpy as np
import soundfile
import soxr
from scipy.signal import fftconvolve


def _coded(container):
    def coded(sound, rate):
        file = io.BytesIO()
        soundfile.write(file, 0.9 * sound, rate, format=container, compression_level=0.7)
        file.seek(0)
        return soundfile.read(file, always_2d=True)[0], rate, 24

    return coded


def _over_the_telephone(sound, rate):
    file = io.BytesIO()
    soundfile.write(file, 0.9 * soxr.resample(sound, rate, 8000), 8000, format="WAV", subtype="ULAW")
    file.seek(0)
    return soundfile.read(file, always_2d=True)[0], 8000, 16


def _resampled(to_rate):
    return lambda sound, rate: (0.9 * soxr.resample(sound, rate, to_rate), to_rate, 24)


def _quieter(by_db, bits):
    return lambda sound, rate: (sound * 10 ** (-by_db / 20), rate, bits)


def _in_a_room(sound, rate):
    random, size = np.random.default_rng(0), round(0.5 * rate)
    echoes = 0.02 * random.standard_normal(size) * np.exp(-6.9 * np.arange(size) / size)
    echoes[0] = 1
    return 0.7 * fftconvolve(sound, echoes[:, np.newaxis], axes=0)[: len(sound)], rate, 24


def _over_noise(sound, rate):
    level = float(np.sqrt(np.mean(sound**2))) * 10 ** (-45 / 20)
    return 0.9 * sound + level * np.random.default_rng(1).standard_normal(sound.shape), rate, 24


CONDITIONS = {
    "16 bits": _quieter(1, 16),
    "16 bits, 12 dB quieter": _quieter(12, 16),
    "16 bits, 30 dB quieter": _quieter(30, 16),
    "30 dB quieter": _quieter(30, 24),
    "at 44.1 kHz": _resampled(44100),
    "at 96 kHz": _resampled(96000),
    "coded as MP3": _coded("MP3"),
    "coded as Vorbis": _coded("OGG"),
    "over the telephone": _over_the_telephone,
    "in a room": _in_a_room,
    "over noise 45 dB below": _over_noise,
}
