import numpy as np
import pytest
import soundfile

from tests.core.sound.test_saving import copy
from tests.sounds import RATE, rng, sine, write
from umbrick.core.errors import ParameterError
from umbrick.core.sound.conversion import Outgoing, channel_choices
from umbrick.core.sound.source import ArraySource


def outgoing(sound, rate, layout=None):
    out = Outgoing(ArraySource(sound, RATE, "s"), rate, layout)
    made = np.concatenate(list(out.blocks()) or [np.zeros((0, out.channels))])
    assert made.shape == (out.frames, out.channels)
    return made


@pytest.mark.parametrize("rate", [16000, 44100, 96000, 192000])
def test_a_tone_keeps_its_pitch_level_and_place_at_another_rate(rate):
    made = outgoing(sine(1000.0, 3.0, 0.5), rate)
    t = np.arange(len(made)) / rate
    wanted = 0.5 * np.sin(2 * np.pi * 1000.0 * t)
    inner = slice(rate // 10, -rate // 10)
    assert np.abs(made[inner, 0] - wanted[inner]).max() < 2e-6


def test_what_the_lower_rate_cannot_hold_does_not_fold_back():
    made = outgoing(sine(15000.0, 1.0, 0.5), 16000)
    assert np.abs(made[1600:-1600]).max() < 1e-5


@pytest.mark.parametrize("frames", [0, 1, 7, 100_000])
def test_any_length_comes_out_with_the_length_that_belongs_to_it(frames):
    for rate in (8000, 44100, RATE, 96000):
        outgoing(0.1 * rng().standard_normal((frames, 2)), rate)


def test_channels_are_laid_out_as_asked(tmp_path):
    sound = np.stack([np.full(1000, 0.25), np.full(1000, -0.5)], axis=1)
    titles = [choice.title for choice in channel_choices(2)]
    assert titles == ["As they are", "All mixed to one", "Only left", "Only right"]
    for choice, value in zip(channel_choices(2)[1:], (-0.125, 0.25, -0.5), strict=True):
        assert (outgoing(sound, RATE, choice) == value).all()
    both = channel_choices(1)[1]
    assert outgoing(sound[:, :1], RATE, both).shape == (1000, 2)
    saved = copy(write(tmp_path / "a.wav", sound), tmp_path / "b.wav", layout=channel_choices(2)[3], rate=24000)
    read, rate = soundfile.read(saved.path, always_2d=True)
    assert (rate, read.shape) == (24000, (500, 1))
    assert read[100:-100] == pytest.approx(-0.5, abs=1e-4)


def test_an_impossible_rate_is_refused():
    with pytest.raises(ParameterError, match="rate"):
        Outgoing(ArraySource(sine(), RATE, "s"), 100)
