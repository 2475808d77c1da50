import numpy as np
import pytest

from tests.sounds import RATE
from umbrick.core.sound.band_limited import CURVE_CONTEXT, band_limited


@pytest.mark.parametrize("oversampling", [1, 2, 7, 32])
def test_the_curve_passes_through_every_sample(oversampling):
    samples = np.random.default_rng(1).standard_normal((50, 2))
    curve = band_limited(samples, oversampling)
    assert curve.shape == (49 * oversampling + 1, 2)
    assert np.array_equal(curve[::oversampling], samples)


@pytest.mark.parametrize("frequency", [100.0, 5000.0, 15000.0])
def test_the_curve_is_the_wave_between_the_samples(frequency):
    def wave(t):
        return np.sin(2 * np.pi * frequency * t / RATE + 0.3)

    frames = np.arange(400)
    curve = band_limited(wave(frames)[:, np.newaxis], 8)[:, 0]
    inside = slice(CURVE_CONTEXT * 8, -CURVE_CONTEXT * 8)
    assert np.abs(curve - wave(np.arange(len(curve)) / 8))[inside].max() < 1e-3


def test_one_sample_is_its_own_curve():
    assert np.array_equal(band_limited(np.array([[0.5]]), 16), [[0.5]])
