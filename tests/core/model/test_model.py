"""Models of sound: what they expect of missing samples, and how sure they are."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.linalg import toeplitz

from tests.sounds import RATE, chord, rng, voice
from umbrick.core.model.across import Beside, models_beside, unlike_across, unlike_within
from umbrick.core.model.autoregression import autocorrelation, deviations, modelled
from umbrick.core.model.damage_extent import extent
from umbrick.core.model.interpolation import interpolated, normal_equations
from umbrick.core.model.robust_spread import robust_spread


def coloured(count=6000, seed=0):
    return np.convolve(rng(seed).standard_normal(count), [1, 0.9, 0.5, 0.2], "same")


def test_a_model_whitens_the_sound_it_was_made_of():
    wave = coloured()
    model = modelled(wave, 32)
    error = np.convolve(wave, model.error_filter, "valid")
    assert np.mean(error**2) == pytest.approx(model.error_power, rel=0.1)
    spectrum = np.abs(np.fft.rfft(error[:4096])) ** 2
    assert spectrum[:512].mean() == pytest.approx(spectrum[-512:].mean(), rel=0.35)


def test_a_wave_as_it_is_is_as_unlike_as_a_join_of_its_two_sides():
    wave = coloured(9000)
    models = models_beside(wave, 4000, 4100, RATE)
    places = np.arange(4030, 4060)
    joined = [unlike_across(wave[:at], wave[at:], models) for at in places]
    assert unlike_within(wave, places, models) == pytest.approx(joined)


def test_models_beside_a_place_are_made_once_and_none_without_enough_sound():
    wave = coloured(9000)
    beside = Beside(wave, RATE)
    before, after = beside.models(4000, 4100)
    assert beside.models(4000, 4200)[0] is before
    assert beside.models(3000, 4100)[1] is after
    assert beside.models(100, 4100) == beside.models(4000, 8990) == []
    wave[:4000] = 0
    assert len(models_beside(wave, 4000, 4100, RATE)) == 1


@given(st.integers(0, 99), st.floats(0.1, 10), st.floats(-5, 5))
def test_most_of_some_values_scatter_as_they_do_wherever_a_few_others_are(seed, spread, middle):
    values = middle + spread * rng(seed).standard_normal(2000)
    values[:60] = 1e6
    assert robust_spread(values) == pytest.approx(spread, rel=0.15)
    assert robust_spread(values, middle) == pytest.approx(spread, rel=0.15)
    assert robust_spread(values + 3) == pytest.approx(robust_spread(values), rel=1e-6)


def test_silence_and_too_little_sound_have_no_model():
    assert modelled(np.zeros(1000), 10) is None
    assert modelled(np.ones(2), 10) is None
    filled, model = interpolated(np.zeros(500), 100, 200, 20, 2)
    assert model is None
    assert not filled.any()


@settings(max_examples=30, deadline=None)
@given(order=st.integers(1, 40), length=st.integers(1, 120), seed=st.integers(0, 5))
def test_deviations_are_those_of_the_inverse_matrix(order, length, seed):
    model = modelled(coloured(seed=seed), order)
    dense = np.linalg.inv(toeplitz(autocorrelation(model.error_filter, length)))
    assert np.allclose(deviations(model, length), np.sqrt(np.diag(dense) * model.error_power), rtol=1e-3)


def test_the_middle_of_a_gap_is_least_sure_and_a_longer_one_less():
    model = modelled(coloured(), 32)
    short, long = deviations(model, 20), deviations(model, 200)
    assert short[10] > short[0]
    assert long.max() > short.max()
    assert np.allclose(long, long[::-1], rtol=1e-3)


@pytest.mark.parametrize("make", [chord, voice])
@pytest.mark.parametrize("start", [0, 7, 5000, 23_900, 23_970])
def test_a_gap_anywhere_is_filled_with_sense(make, start):
    wave = make(0.5)[:, 0]
    stop = min(len(wave), start + 30)
    filled, _ = interpolated(wave, start, stop, 128, 2)
    assert filled.shape == (stop - start,)
    assert np.abs(filled).max() <= 1.5 * np.abs(wave).max()


def test_what_stands_in_the_gap_is_not_looked_at():
    wave = chord(0.5)[:, 0]
    other = wave.copy()
    other[9000:9040] = 7.0
    assert np.array_equal(interpolated(wave, 9000, 9040, 64, 2)[0], interpolated(other, 9000, 9040, 64, 2)[0])
    model = modelled(wave, 64)
    one, two = (normal_equations(w, 9000, 9040, model) for w in (wave, other))
    assert np.array_equal(one.pull, two.pull)


def test_equations_of_two_opinions_lie_between_them():
    wave = chord(0.5)[:, 0]
    model = modelled(wave, 64)
    one = normal_equations(wave, 9000, 9040, model)
    other = normal_equations(0.5 * wave, 9000, 9040, model)
    assert np.allclose((one + other).solved(), (one.solved() + other.solved()) / 2, atol=1e-6)
    assert np.allclose(one.scaled(3.0).solved(), one.solved(), atol=1e-6)


@settings(max_examples=20, deadline=None)
@given(at=st.integers(2000, 20_000), length=st.integers(1, 60), seed=st.integers(0, 9))
def test_the_extent_holds_the_loudest_damage_and_little_else(at, length, seed):
    wave = voice(0.5, noise=0.002)[:, 0]
    wave[at : at + length] += 0.5 * np.sign(rng(seed).standard_normal(length))
    start, stop, _ = extent(wave, at, at + length, RATE)
    assert abs(start - at) <= 2
    assert abs(stop - at - length) <= 2


@pytest.mark.parametrize("apart", [30, 35, 40])
@pytest.mark.parametrize("seed", range(4))
def test_an_attack_beside_a_click_is_no_part_of_its_damage(apart, seed):
    wave = 0.002 * rng(seed).standard_normal(RATE // 2)
    t = np.arange(RATE // 4) / RATE
    struck = (np.exp(-30 * t) * np.sin(2 * np.pi * f * t) for f in (190.0, 430.0, 1170.0))
    wave[9000 : 9000 + len(t)] += 0.25 * sum(struck)
    at = 9000 + apart
    wave[at : at + 3] += (-0.7, 0.5, -0.3)
    start, stop, _ = extent(wave, at, at + 1, RATE)
    assert abs(start - at) <= 2
    assert abs(stop - at - 3) <= 3


def test_clean_sound_keeps_the_place_it_was_given():
    assert extent(chord(0.5)[:, 0], 9000, 9010, RATE)[:2] == (9000, 9010)
    assert extent(np.zeros(2000), 500, 520, RATE)[:2] == (500, 520)


@pytest.mark.parametrize("start", [0, 100, 8000, 10_050])
def test_a_long_gap_near_an_end_takes_no_longer_than_one_inside(start):
    wave = chord(0.5)[:, 0]
    stop = min(len(wave), start + 13_900)
    filled, _ = interpolated(wave, start, stop, 1000, 2)
    assert np.isfinite(filled).all()
    assert np.abs(filled).max() < 3 * np.abs(wave).max()
