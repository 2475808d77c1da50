import numpy as np
import pyloudnorm
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, rng, sine, voice
from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.measure.levels import LevelMeter
from umbrick.core.measure.loudness import LoudnessMeter
from umbrick.core.measure.matching import matching_trims_db
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.change import delete, replace
from umbrick.core.timeline.version import Version
from umbrick.core.units import SILENCE_DBFS, db_to_amplitude


def fed(meter, sound, cuts=(1000, 30000, 31000)):
    for part in np.split(sound.astype(np.float32), cuts):
        if len(part):
            meter.feed(part)
    return meter


@pytest.mark.parametrize("channels", [1, 2])
def test_loudness_agrees_with_the_library_measuring_all_at_once(channels):
    sound = np.hstack([voice(6.0, seed=s, level=0.2 + 0.2 * s) for s in range(channels)])
    sound[: 2 * RATE] *= 0.01
    expected = pyloudnorm.Meter(RATE).integrated_loudness(sound)
    assert fed(LoudnessMeter(RATE, channels), sound).integrated_lufs() == pytest.approx(expected, abs=0.1)


def test_a_full_scale_sine_of_997_hz_measures_minus_three():
    meter = fed(LoudnessMeter(RATE, 1), sine(997.0, 5.0, 1.0))
    assert meter.integrated_lufs() == pytest.approx(-3.01, abs=0.05)
    assert meter.short_term_lufs() == pytest.approx(-3.01, abs=0.05)


def test_silence_and_too_little_sound_have_no_loudness():
    assert fed(LoudnessMeter(RATE, 1), np.zeros((RATE, 1))).integrated_lufs() == SILENCE_DBFS
    assert LoudnessMeter(RATE, 1).integrated_lufs() == SILENCE_DBFS
    assert LoudnessMeter(RATE, 1).short_term_lufs() == SILENCE_DBFS


def test_the_true_peak_lies_between_the_samples():
    t = np.arange(RATE) / RATE
    sound = np.sin(2 * np.pi * RATE / 4 * t + np.pi / 4)[:, np.newaxis] * 0.5
    meter = fed(LevelMeter(RATE, 1), sound * np.hanning(RATE)[:, np.newaxis])
    assert meter.peak == pytest.approx(0.3536, abs=0.001)
    assert meter.true_peak == pytest.approx(0.5, abs=0.005)


@given(st.integers(1, 5000))
def test_the_peak_is_the_highest_sample(frames):
    sound = rng(frames).standard_normal((frames, 2))
    meter = fed(LevelMeter(RATE, 2), sound)
    assert meter.peak == np.abs(sound.astype(np.float32)).max()
    assert meter.true_peak >= meter.peak


def test_the_noise_floor_is_the_level_of_the_pauses():
    sound = voice(5.0)
    sound[RATE : 2 * RATE] = 0.001 * rng().standard_normal((RATE, 1))
    assert fed(LevelMeter(RATE, 1), sound).noise_floor_dbfs == pytest.approx(-60, abs=1)
    assert fed(LevelMeter(RATE, 1), np.zeros((RATE, 1))).noise_floor_dbfs == SILENCE_DBFS


@given(st.floats(0.0, 10.0), st.floats(-12.0, 0.0))
def test_the_fitting_level_change_brings_a_peak_just_under_the_ceiling(peak, ceiling):
    gain = fitting_gain_db(peak, ceiling)
    top = db_to_amplitude(ceiling)
    assert gain <= 0
    assert peak * db_to_amplitude(gain) <= top * (1 + 1e-6)
    if gain:
        assert peak * db_to_amplitude(gain + 0.11) > top


def test_trims_make_two_versions_equally_loud_and_neither_louder():
    before = Version.of(ArraySource(voice(4.0), RATE, "b"))
    after = replace(before, 0, before.frames, ArraySource(0.5 * voice(4.0), RATE, "a")).apply(before)
    first, second = matching_trims_db(before, after, 0, before.frames)
    assert first == pytest.approx(-6.02, abs=0.05)
    assert second == 0.0
    silence = Version.of(ArraySource(np.zeros((RATE, 1)), RATE, "z"))
    assert matching_trims_db(silence, silence, 0, RATE) == (0.0, 0.0)
    # What comes after a cut is compared with itself, not with what stood there before.
    ramp = Version.of(ArraySource(voice(4.0) * np.linspace(0.05, 1, 4 * RATE)[:, np.newaxis], RATE, "r"))
    shorter = delete(ramp, 0, 2 * RATE).apply(ramp)
    assert matching_trims_db(ramp, shorter, RATE, 2 * RATE) == pytest.approx((0.0, 0.0), abs=0.01)
