"""Taking the drift of a clock out."""

import numpy as np
import soxr
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, voice
from umbrick.core.linking.steady import Steady
from umbrick.core.sound.source import ArraySource


def test_a_drifting_recording_comes_back_to_the_clock():
    # Nothing in the last eighth below half the rate, where resamplers differ.
    whole = soxr.resample(soxr.resample(voice(4.0)[:, 0], RATE, 40000), 40000, RATE)
    for ppm in (80.0, -35.0):
        drifting = soxr.resample(whole, 1e6, 1e6 * (1 + ppm * 1e-6), quality="VHQ")
        steady = Steady(ArraySource(drifting, RATE, "a"), ppm)
        back = steady.read_exact(0, steady.frames)[:, 0]
        inside = slice(2000, min(len(back), len(whole)) - 2000)
        error = back[inside] - whole[inside]
        assert 10 * np.log10(np.mean(whole[inside] ** 2) / np.mean(error**2)) > 80
        assert abs(steady.frames - len(whole)) <= 2


@given(st.integers(0, 40000), st.integers(1, 3000), st.floats(-250, 250))
def test_blocks_are_parts_of_the_whole(start, length, ppm):
    steady = Steady(ArraySource(voice(1.0), RATE, "a"), ppm)
    stop = min(start + length, steady.frames)
    whole = steady.read_exact(0, steady.frames)
    assert np.allclose(steady.read_exact(start, stop), whole[start:stop], atol=1e-12)


def test_without_drift_every_sample_stays():
    sound = voice(0.5)
    assert np.allclose(Steady(ArraySource(sound, RATE, "a"), 0.0).read_exact(0, len(sound)), sound, atol=1e-12)
