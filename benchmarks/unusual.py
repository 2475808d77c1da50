"""Sound that is clean but unusual: what was meant to stop, to repeat, to be square or loud must be left as it is.

Made by the processes that make such sound (keying, gating, sequencing, limiting, a speech synthesizer, recoding), at
fixed seeds. Targets: no finding of confidence 0.9 or more; at most 0.5 a minute of 0.5 or more over all; a mend with
the default settings leaves each as it is, or changes it by less than −60 dB.
"""

from __future__ import annotations

import io
import itertools
import shutil
import subprocess
from collections.abc import Callable

import numpy as np
import soundfile
import soxr
from scipy.ndimage import minimum_filter1d, uniform_filter1d
from scipy.signal import butter, chirp, sawtooth, sosfilt, square

from benchmarks.ramps import RATE, ramped
from benchmarks.unusual_instruments import MORE

SECONDS = 10.0

_GATES_MS = (0, 1, 2, 5, 10)
_VOICES = ("en", "de+f3", "fr+m3", "cs+f2", "es+m7")
_WORDS = {
    "en": "The tide tables are in the second drawer. Read the harbour light at seven, then call the station.",
    "de": "Die Gezeitentafel liegt im zweiten Fach. Lies das Feuer um sieben ab und rufe dann die Station.",
    "fr": "La table des marées est dans le second tiroir. Lis le feu du port à sept heures et appelle.",
    "cs": "Tabulka přílivu je ve druhé zásuvce. V sedm přečti světlo v přístavu a zavolej stanici.",
    "es": "La tabla de mareas está en el segundo cajón. Lee la luz del puerto a las siete y llama.",
}


def _times(seconds=SECONDS, rate=RATE):
    return np.arange(round(seconds * rate)) / rate


def _sequenced(note, on, off, ramp_ms, seconds=SECONDS, rate=RATE):
    """Return notes one after another, with rests between; ``note`` is given a number and times from 0."""
    sound = np.zeros(round(seconds * rate))
    at, number = round(0.2 * rate), 0
    while at + round((on + off) * rate) < len(sound):
        t = np.arange(round(on * rate)) / rate
        sound[at : at + len(t)] = ramped(note(number, t), ramp_ms, rate)
        at, number = at + round((on + off) * rate), number + 1
    return sound


def _dialled(ramp_ms):
    rows, columns = (697, 770, 852, 941), (1209, 1336, 1477)

    def make(random, speech, music):
        keys = random.integers(0, 12, 100)

        def note(n, t):
            row, column = divmod(int(keys[n]), 3)
            return 0.3 * np.sin(2 * np.pi * rows[row] * t) + 0.3 * np.sin(2 * np.pi * columns[column] * t)

        return _sequenced(note, 0.08, 0.06, ramp_ms), RATE, 16

    return make


def gated(ramp_ms, threshold_db=-35.0):
    """Return what puts a voice through a gate that opens and closes in so many milliseconds."""

    def make(random, speech, music):
        sound, rate = speech
        level = np.sqrt(uniform_filter1d(sound**2, round(0.01 * rate)))
        held = round(0.08 * rate)
        is_open = level > np.abs(sound).max() * 10 ** (threshold_db / 20)
        is_open = minimum_filter1d(~is_open, held) == 0
        gain = is_open.astype(float)
        if ramp_ms:
            gain = uniform_filter1d(gain, max(1, round(ramp_ms * rate / 1000)))
        return sound * gain, rate, 16

    return make


def _melody(shape, rest, ramp_ms=0.0):
    scale = 55.0 * 2 ** (np.array([24, 27, 29, 31, 34, 36, 39, 41]) / 12)

    def make(random, speech, music):
        steps = random.integers(0, len(scale), 200)
        return _sequenced(lambda n, t: 0.4 * shape(2 * np.pi * scale[steps[n]] * t), 0.2, rest, ramp_ms), RATE, 16

    return make


def _plucked(frequency, decay, t):
    return sum(np.exp(-t * decay * k**0.7) * np.sin(2 * np.pi * k * frequency * t) / k**1.3 for k in range(1, 9))


def _low_bass(random, speech, music):
    tones = (41.2, 46.2, 49.0, 55.0, 36.7)
    return _sequenced(lambda n, t: 0.4 * _plucked(tones[n % 5], 2.0, t) ** 3, 0.9, 0.1, 3.0), RATE, 24


def _sub_bass(random, speech, music):
    def note(n, t):
        return 0.6 * np.exp(-2 * t) * np.maximum(0, np.sin(2 * np.pi * (32.7, 36.7, 43.7)[n % 3] * t)) ** 5

    return _sequenced(note, 1.2, 0.1, 3.0), RATE, 24


def _morse(random, speech, music):
    sound, at = np.zeros(round(SECONDS * RATE)), RATE // 5
    unit = round(0.06 * RATE)
    while at < len(sound) - 20 * unit:
        for _ in range(int(random.integers(1, 5))):
            long = unit * int(random.choice([1, 3]))
            sound[at : at + long] = ramped(0.5 * np.sin(2 * np.pi * 620 * np.arange(long) / RATE), 4.0)
            at += long + unit
        at += 2 * unit
    return sound, RATE, 16


def _modem(random, speech, music):
    bits = np.repeat(random.integers(0, 2, round(SECONDS * 300)), RATE // 300)
    return ramped(0.5 * np.sin(2 * np.pi * np.cumsum(np.where(bits, 1270, 1070)) / RATE), 10.0), RATE, 16


def _phase_modem(random, speech, music):
    turns = np.cumsum(random.integers(0, 4, round(SECONDS * 600))) * np.pi / 2
    turns = np.repeat(turns, RATE // 600)
    wave = 0.5 * np.cos(2 * np.pi * 1800 * _times() + turns)
    return ramped(sosfilt(butter(4, (900, 2700), "bandpass", fs=RATE, output="sos"), wave), 10.0), RATE, 16


def _sweep(random, speech, music):
    return 10 ** (-3 / 20) * ramped(chirp(_times(), 20, SECONDS, 20000, "logarithmic"), 20), RATE, 24


def _beeps(random, speech, music):
    return _sequenced(lambda n, t: 0.5 * np.sin(2 * np.pi * 1000 * t), 0.1, 0.4, 0.0), RATE, 16


def _metronome(random, speech, music):
    def tick(n, t):
        return 0.7 * np.exp(-t * 400) * np.sin(2 * np.pi * (1800 if n % 4 == 0 else 1400) * t)

    return _sequenced(tick, 0.02, 0.48, 0.0), RATE, 16


def _claves(random, speech, music):
    def stroke(n, t):
        return 0.6 * np.exp(-t * 90) * (np.sin(2 * np.pi * 2500 * t) + 0.3 * np.sin(2 * np.pi * 4310 * t))

    return _sequenced(stroke, 0.2, 0.05, 0.05) + 1e-5 * random.standard_normal(round(SECONDS * RATE)), RATE, 24


def _hats(random, speech, music):
    high = butter(4, 7000, "highpass", fs=RATE, output="sos")

    def stroke(n, t):
        return 0.4 * sosfilt(high, np.exp(-t * (25 if n % 4 == 2 else 120)) * random.standard_normal(len(t)))

    return _sequenced(stroke, 0.1, 0.025, 0.0), RATE, 24


def _castanets(random, speech, music):
    sound = 2e-5 * random.standard_normal(round(SECONDS * RATE))
    for at in np.cumsum(random.choice([0.06, 0.12, 0.24], 90)):
        if at < SECONDS - 0.2:
            t = np.arange(round(0.1 * RATE)) / RATE
            noise = sosfilt(butter(2, (1500, 6000), "bandpass", fs=RATE, output="sos"), random.standard_normal(len(t)))
            first = round(at * RATE)
            sound[first : first + len(t)] += 0.5 * random.uniform(0.5, 1) * np.exp(-t * 180) * noise
    return sound, RATE, 24


def _pad(t):
    return sum(np.sin(2 * np.pi * f * t + f) for f in (220.0, 220.7, 277.2, 329.6, 330.3, 440.1)) / 9


def _gated_pad(random, speech, music):
    t = _times()
    is_open = random.integers(0, 3, 200)[(t / 0.0625).astype(int)] > 0
    return ramped(_pad(t) * uniform_filter1d(is_open.astype(float), round(0.001 * RATE)), 10.0), RATE, 24


def _chopped_pad(random, speech, music):
    t = _times()
    return ramped(_pad(t) * ((t / 0.125) % 1 < 0.7), 10.0), RATE, 24


def _square_tremolo(random, speech, music):
    sound, rate = music
    t = np.arange(len(sound)) / rate
    return sound * uniform_filter1d(((t * 6.0) % 1 < 0.5).astype(float), round(0.0015 * rate)), rate, 24


def _noise_bursts(random, speech, music):
    return _sequenced(lambda n, t: 0.2 * random.standard_normal(len(t)), 0.15, 0.1, 5.0), RATE, 16


def _chiptune(random, speech, music):
    notes = 110.0 * 2 ** (random.integers(0, 24, 400) / 12)
    lead = _sequenced(lambda n, t: 0.25 * square(2 * np.pi * notes[n] * t, (0.5, 0.25, 0.125)[n % 3]), 0.11, 0.01, 0)
    bass = _sequenced(lambda n, t: 0.25 * sawtooth(np.pi * notes[n + 90] * t, 0.5), 0.24, 0.0, 0)
    drum = _sequenced(lambda n, t: 0.2 * np.exp(-30 * t) * np.sign(random.standard_normal(len(t))), 0.1, 0.14, 0)
    return np.round((lead + bass + drum) * 64) / 64, RATE, 16


def _pulse_note(random, speech, music):
    return _sequenced(lambda n, t: 0.4 * square(2 * np.pi * (110, 146.8)[n % 2] * t, 0.2), 0.9, 0.1, 2.0), RATE, 24


def _bit_crushed(random, speech, music):
    sound, rate = music
    held = np.repeat(sound[::6], 6)[: len(sound)]
    return np.round(held * 32) / 32, rate, 16


def _eight_bit_drums(random, speech, music):
    def stroke(n, t):
        kick = np.exp(-12 * t) * np.sin(2 * np.pi * 60 * t * (1 + np.exp(-30 * t)))
        snare = np.exp(-25 * t) * random.standard_normal(len(t)) * 0.5
        return 0.8 * (kick if n % 2 == 0 else snare)

    low_rate = soxr.resample(_sequenced(stroke, 0.24, 0.01, 0.0), RATE, 22050)
    return np.round(low_rate * 127) / 128, 22050, 16


def _hard_panned(random, speech, music):
    t = _times()
    left = _sequenced(lambda n, s: 0.5 * _plucked(220 * 2 ** (n % 7 / 12), 6.0, s), 0.25, 0.25, 1.0)
    right = _sequenced(lambda n, s: 0.3 * sawtooth(2 * np.pi * 330 * s), 0.125, 0.125, 1.0)
    return np.stack([left, right], axis=1)[: len(t)], RATE, 24


def _limited(drive_db, ceiling_db=-0.3, ahead_ms=1.5, release_ms=60.0, bits=16):
    """A look-ahead limiter: its gain falls before a peak comes, so that the peak just reaches the ceiling."""

    def make(random, speech, music):
        sound, rate = music
        driven = sound / np.abs(sound).max() * 10 ** (drive_db / 20)
        ceiling = 10 ** (ceiling_db / 20)
        ahead = max(1, round(ahead_ms * rate / 1000)) | 1
        needed = minimum_filter1d(np.minimum(1.0, ceiling / np.maximum(np.abs(driven), 1e-9)), ahead)
        gain, back = np.empty_like(needed), 1 - np.exp(-1000 / (release_ms * rate))
        now = 1.0
        for index, least in enumerate(needed.tolist()):
            now = min(least, now + back * (1 - now))
            gain[index] = now
        return driven * np.minimum(uniform_filter1d(gain, ahead), 1.0), rate, bits

    return make


def _synthetic_voice(voice):
    def make(random, speech, music):
        return spoken(voice)

    return make


def spoken(voice):
    """Return text as a speech synthesizer says it, and its rate; None where it is not installed."""
    if shutil.which("espeak-ng") is None:
        return None
    command = ["espeak-ng", "-v", voice, "-s", "150", "--stdout", _WORDS[voice.partition("+")[0]]]
    said = subprocess.run(command, capture_output=True, check=True).stdout
    # The header of a stream claims a length that is none.
    wave = np.frombuffer(said[44 : len(said) // 2 * 2], "<i2") / 32768
    return 0.9 * wave / np.abs(wave).max(), 22050, 16


def coder_pauses(random, speech, music):
    """A coder at 8 kHz that sends nothing in pauses, in frames of 20 ms."""
    sound, rate = speech
    low = soxr.resample(sound, rate, 8000)
    frames = low[: len(low) // 160 * 160].reshape(-1, 160)
    level = np.sqrt((frames**2).mean(axis=1))
    speaking = minimum_filter1d(level <= 0.02 * np.abs(low).max(), 5) == 0
    file = io.BytesIO()
    soundfile.write(file, frames.reshape(-1), 8000, format="WAV", subtype="GSM610")
    file.seek(0)
    coded = soundfile.read(file)[0][: frames.size]
    return coded * np.repeat(speaking, 160)[: len(coded)], 8000, 16


def _applause(random, speech, music):
    sound = np.zeros(round(SECONDS * RATE))
    for at in random.uniform(0, SECONDS - 0.1, 2500):
        t = np.arange(round(0.02 * RATE)) / RATE
        centre = random.uniform(800, 3000)
        clap = np.exp(-t * random.uniform(150, 500)) * random.standard_normal(len(t))
        clap = sosfilt(butter(1, (centre / 1.5, centre * 1.5), "bandpass", fs=RATE, output="sos"), clap)
        first = round(at * RATE)
        sound[first : first + len(t)] += random.uniform(0.05, 0.5) * clap
    return ramped(0.5 * sound / np.abs(sound).max(), 300), RATE, 24


def _rain(random, speech, music):
    sound = 0.004 * random.standard_normal(round(SECONDS * RATE))
    for at in random.uniform(0, SECONDS - 0.1, 4000):
        t = np.arange(round(0.01 * RATE)) / RATE
        drop = np.exp(-t * random.uniform(300, 1500)) * np.sin(2 * np.pi * random.uniform(1500, 8000) * t)
        first = round(at * RATE)
        sound[first : first + len(t)] += 0.1 * random.pareto(3.0) * drop
    return ramped(0.6 * sound / np.abs(sound).max(), 300), RATE, 24


def _vocoded(random, speech, music):
    sound, rate = speech
    carrier, made = sawtooth(2 * np.pi * 110 * np.arange(len(sound)) / rate), np.zeros(len(sound))
    top = min(7000.0, 0.45 * rate)
    edges = np.geomspace(100, top, 17)
    for low, high in itertools.pairwise(edges):
        band = butter(2, (low, high), "bandpass", fs=rate, output="sos")
        level = np.sqrt(np.maximum(uniform_filter1d(sosfilt(band, sound) ** 2, round(0.015 * rate)), 0))
        made += level * sosfilt(band, carrier)
    return ramped(0.7 * made / np.abs(made).max(), 10.0, rate), rate, 24


def _reversed(random, speech, music):
    sound, rate = music
    return sound[::-1].copy(), rate, 24


def _glitch_edits(random, speech, music):
    """Slices repeated in time with the beat, each with a millisecond's ramps, as an arranger would have them."""
    sound, rate = music
    step, parts = round(0.125 * rate), []
    while sum(map(len, parts)) < len(sound) - 8 * step:
        at = int(random.integers(0, len(sound) // step - 2)) * step
        parts += [ramped(sound[at : at + step], 1.0, rate)] * int(random.choice([1, 1, 2, 4]))
    return ramped(np.concatenate(parts), 10.0, rate), rate, 24


def _steady_tones(random, speech, music):
    def note(n, t):
        return 0.3 * np.exp(-t * 0.7) * np.sin(2 * np.pi * (440, 587.3, 659.3)[n % 3] * t)

    return _sequenced(note, 2.8, 0.3, 30.0), RATE, 24


def _ringing(random, speech, music):
    def ring(n, t):
        return 0.3 * (np.sin(2 * np.pi * 440 * t) + np.sin(2 * np.pi * 480 * t))

    return _sequenced(ring, 2.0, 1.0, 1.0), RATE, 16


Make = Callable[..., "tuple[np.ndarray, int, int] | None"]

UNUSUAL: dict[str, Make] = {
    "dialled tones": _dialled(0),
    "dialled tones with ramps": _dialled(2),
    **{f"voice through a gate of {ms} ms": gated(ms) for ms in _GATES_MS},
    "sine notes": _melody(np.sin, 0.04),
    "saw notes": _melody(sawtooth, 0.04),
    "square notes": _melody(square, 0.04),
    "triangle notes": _melody(lambda phase: sawtooth(phase, 0.5), 0.04),
    "saw notes with ramps": _melody(sawtooth, 0.04, 3.0),
    "low bass": _low_bass,
    "sub bass": _sub_bass,
    "morse": _morse,
    "modem": _modem,
    "phase modem": _phase_modem,
    "sweep": _sweep,
    "beeps": _beeps,
    "metronome": _metronome,
    "claves": _claves,
    "hats": _hats,
    "castanets": _castanets,
    "gated pad": _gated_pad,
    "chopped pad": _chopped_pad,
    "square tremolo": _square_tremolo,
    "noise bursts": _noise_bursts,
    "chiptune": _chiptune,
    "pulse notes": _pulse_note,
    "bit crush": _bit_crushed,
    "8-bit drums": _eight_bit_drums,
    "hard-panned": _hard_panned,
    "limiter by 4 dB": _limited(4),
    "limiter by 10 dB": _limited(10),
    "limiter by 6 dB at 24 bits": _limited(6, -1.0, 3.0, bits=24),
    **{f"synthetic voice {voice}": _synthetic_voice(voice) for voice in _VOICES},
    "coder's pauses": coder_pauses,
    "applause": _applause,
    "rain": _rain,
    "vocoded": _vocoded,
    "reversed": _reversed,
    "glitch edits": _glitch_edits,
    "decaying tones": _steady_tones,
    "ringing tone": _ringing,
    **MORE,
}
