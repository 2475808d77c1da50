"""What spectrograms show, and where."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, rng, sine
from umbrick.core.errors import CancelledError
from umbrick.core.sound.source import ArraySource
from umbrick.core.view.frequency_scale import FrequencyScale, Spacing, note_at
from umbrick.core.view.spectrogram import Look, Sharpening, level_columns, levels_in_db

ROWS = 300


def source(sound):
    return ArraySource(sound.astype(np.float32), RATE, "seen")


def seen(sound, sharpening=Sharpening.NONE, spacing=Spacing.MEL, columns=100, length=4):
    look = Look(FrequencyScale(spacing, RATE / 2), ROWS, length, sharpening)
    return levels_in_db(level_columns(source(sound), 0, 0, len(sound) / columns, columns, look)), look.scale


@given(st.sampled_from(Spacing), st.floats(1, 23_999), st.floats(0.01, 1), st.floats(0, 1))
def test_a_scale_maps_there_and_back(spacing, hz, factor, share):
    scale = FrequencyScale(spacing, 24_000.0).zoomed(factor, share)
    assert float(scale.hz_at(scale.share_of(hz))) == pytest.approx(hz, rel=1e-6)
    low, high = (float(part) for part in scale.hz_at([0, 1]))
    assert -1e-6 <= low < high <= 24_000 * (1 + 1e-9)
    assert float(scale.hz_at(share)) == pytest.approx(float(FrequencyScale(spacing, 24_000.0).hz_at(share)), rel=1e-6)


@pytest.mark.parametrize("sharpening", Sharpening)
@pytest.mark.parametrize("spacing", Spacing)
def test_a_tone_is_drawn_at_its_frequency_and_level(sharpening, spacing):
    levels, scale = seen(sine(1000, 2.0, 0.1), sharpening, spacing)
    middle = levels[:, 20:80]
    row = np.bincount(middle.argmax(axis=0)).argmax()
    assert float(scale.hz_at(1 - (row + 0.5) / ROWS)) == pytest.approx(1000, rel=0.06)
    if sharpening is Sharpening.NONE:
        assert middle.max() == pytest.approx(-20, abs=2.5)


@pytest.mark.parametrize("sharpening", [Sharpening.SEVERAL, Sharpening.REASSIGNED])
def test_sharpened_a_click_is_short_and_a_tone_narrow(sharpening):
    sound = sine(3000, 1.0, 0.1)
    sound[RATE // 2] += 0.9

    def spread(how):
        levels, _ = seen(sound, how, columns=400)
        loud = levels > levels.max() - 25
        return loud.sum()

    assert spread(sharpening) < spread(Sharpening.NONE)


def test_beyond_the_ends_there_is_silence_and_work_can_be_stopped():
    look = Look(FrequencyScale(Spacing.LINEAR, RATE / 2), 50)
    noise = source(rng().standard_normal((4800, 1)))
    levels = level_columns(noise, 0, -48_000, 480, 400, look)
    assert not levels[:, :50].any()
    assert not levels[:, 200:].any()
    assert levels[:, 102:108].any()
    with pytest.raises(CancelledError):
        level_columns(noise, 0, 0, 10, 400, look, lambda: True)


def test_notes_are_told_with_how_far_off_they_are():
    assert note_at(440.0) == "A4 +0 ct"
    assert note_at(450.0) == "A4 +39 ct"
    assert note_at(0.0) == ""
