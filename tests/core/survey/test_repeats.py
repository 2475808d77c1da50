"""Exact repeats: found at any lag and length, on any grid of sample values, and nowhere else."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, on_grid, rng, voice
from umbrick.core.survey.repeats.repeats import exact_repeats

VOICE = voice(2.0)[:, 0]
LONGEST_LAG, SHORTEST = RATE // 2, 288


@given(
    bits=st.sampled_from([8, 16, 24]),
    start=st.integers(RATE // 2, RATE),
    lag=st.integers(400, LONGEST_LAG),
    share=st.floats(0.3, 1.0),
)
def test_what_is_played_twice_is_found_to_the_sample(bits, start, lag, share):
    length = max(2 * SHORTEST, round(share * lag))
    wave = on_grid(VOICE[:, np.newaxis], bits)[:, 0].astype(np.float32)
    again = wave[start - lag : start - lag + min(lag, length)]
    twice = np.concatenate([wave[:start], again, wave[start + len(again) :]])
    found = exact_repeats(twice, LONGEST_LAG, SHORTEST)
    near = [repeat for repeat in found if repeat.lag == lag]
    assert near or len(again) < SHORTEST
    # Beside a repeat there may be a few samples that are the same by chance.
    assert all(repeat.start <= start and repeat.stop >= start + len(again) for repeat in near)
    for repeat in found:
        assert np.array_equal(
            twice[repeat.start : repeat.stop], twice[repeat.start - repeat.lag : repeat.stop - repeat.lag]
        )


def test_a_wave_of_few_frames_has_none():
    assert [exact_repeats(VOICE[:count].astype(np.float32), LONGEST_LAG, SHORTEST) for count in (0, 1, 3, 100)] == [
        []
    ] * 4


def test_noise_that_has_nothing_twice_has_none():
    assert exact_repeats(on_grid(0.1 * rng().standard_normal(RATE), 16).astype(np.float32), LONGEST_LAG, SHORTEST) == []
