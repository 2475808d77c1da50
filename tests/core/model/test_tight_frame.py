"""Spectra that hold just what the wave holds."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, chord, rng
from umbrick.core.model.tight_frame import TightFrame, power, steadiness


@settings(max_examples=40)
@given(st.integers(1, 3000), st.sampled_from([16, 64, 512]), st.integers(0, 9))
def test_synthesis_undoes_analysis_and_no_energy_is_lost(samples, length, seed):
    wave = rng(seed).standard_normal(samples).astype(np.float32)
    frame = TightFrame(samples, length)
    spectra = frame.analysed(wave)
    assert spectra.shape == (frame.count, length // 2 + 1)
    assert np.allclose(frame.synthesised(spectra), wave, atol=1e-5)
    powers = power(spectra)
    twice = 2 * powers.sum() - powers[:, 0].sum() - powers[:, -1].sum()
    assert np.isclose(twice, np.sum(wave.astype(np.float64) ** 2), rtol=1e-4)


def test_held_tones_are_steadier_than_noise_and_silence_is_not_steady():
    assert steadiness(chord(1.0)[:, 0], RATE) > 0.95
    assert steadiness(rng(1).standard_normal(RATE), RATE) < 0.85
    assert steadiness(np.zeros(RATE), RATE) == 0
    assert steadiness(np.ones(50), RATE) == 0
