"""Pieces that come again fainter, coded or resampled are one stutter; what is like itself anyway is none."""

import io

import numpy as np
import pytest
import soundfile
import soxr

from tests.sounds import RATE, chord, sine
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.repeats.loops import in_time
from umbrick.core.survey.survey import Surveyor

AT, LENGTH = 2 * RATE + 321, RATE // 10


def gliding(seconds=5.0):
    """Return a voice whose pitch, vowel and loudness are never the same for long."""
    t = np.arange(round(seconds * RATE)) / RATE
    pitch = 120 + 35 * np.sin(2 * np.pi * 0.9 * t) + 9 * np.sin(2 * np.pi * 2.3 * t)
    phase = 2 * np.pi * np.cumsum(pitch) / RATE
    formants = [600 + 250 * np.sin(2 * np.pi * 1.7 * t), 1500 + 500 * np.sin(2 * np.pi * 1.1 * t + 1)]
    made = 0.004 * np.random.default_rng(0).standard_normal(len(t))
    for number in range(1, 24):
        near = sum(1 / (1 + ((number * pitch - formant) / 150) ** 2) for formant in formants)
        made += 0.2 * near * np.sin(number * phase) / number**0.3
    made *= 0.6 + 0.4 * np.sin(2 * np.pi * 1.3 * t)
    return (0.5 * made / np.abs(made).max())[:, np.newaxis]


def repeated(sound):
    again = sound[AT : AT + LENGTH] * np.linspace(0.9, 0.4, LENGTH)[:, np.newaxis]
    return np.concatenate([sound[: AT + LENGTH], again, sound[AT + LENGTH :]])


def coded(sound):
    file = io.BytesIO()
    soundfile.write(file, sound, RATE, format="MP3", compression_level=0.3)
    file.seek(0)
    return soundfile.read(file, always_2d=True)[0]


def stutters(sound, rate=RATE):
    source = ArraySource(sound.astype(np.float32), rate, "s")
    return [f for f in Surveyor(source, 24, [KINDS["stutter"]]).run().sifted({}) if not f.detail.get("restart")]


@pytest.mark.parametrize(
    "then", [lambda s: s, coded, lambda s: soxr.resample(s, RATE, 0.97 * RATE)], ids=["faded", "coded", "resampled"]
)
def test_a_piece_that_comes_again_otherwise_is_found_with_its_lag(then):
    planted = repeated(gliding())
    came = then(planted)
    scale = len(came) / len(planted)
    (found,) = stutters(came)
    assert abs(found.detail["lag"] - LENGTH * scale) < 0.002 * RATE
    assert found.start < (AT + 1.6 * LENGTH) * scale
    assert found.stop > (AT + 1.4 * LENGTH) * scale
    assert "repeats the previous 100 ms" in found.evidence.replace("97 ms", "100 ms")
    assert found.detail["gain_db"] < -1


@pytest.mark.parametrize("sound", [gliding(), chord(4.0), sine(220, seconds=4)], ids=["voice", "chord", "tone"])
def test_what_is_like_itself_at_any_lag_repeats_nothing(sound):
    assert stutters(sound) == []


def test_repeats_in_time_are_an_arrangers_and_those_of_a_buffer_are_not():
    beat, rate = 6000, 48000
    loops = [(beat * at, beat) for at in (1, 3, 4, 9, 12)]
    assert in_time(loops, rate) == [True] * 5
    assert in_time(loops[:3], rate) == [False] * 3
    assert in_time([(512 * at, 512) for at in range(1, 9)], rate) == [False] * 8
    scattered = [(1000 + 7919 * at * at, beat) for at in range(6)]
    assert not any(in_time(scattered, rate))
    assert in_time([], rate) == []
