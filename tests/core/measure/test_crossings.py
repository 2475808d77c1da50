import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, rng, sine, voice
from umbrick.core.measure.crossings import (
    Direction,
    crossings,
    cycle_of,
    nearest_crossing,
    next_crossing,
    next_cycle,
)
from umbrick.core.sound.source import ArraySource


def source(wave):
    return ArraySource(np.asarray(wave, np.float32), RATE, "w")


@given(st.lists(st.floats(-1, 1), min_size=2, max_size=60))
def test_every_crossing_lies_between_two_signs_and_rising_and_falling_take_turns(values):
    wave = np.array(values)
    rising, falling = (set(crossings(wave, d).tolist()) for d in (Direction.RISING, Direction.FALLING))
    assert all(wave[i - 1] < 0 <= wave[i] for i in rising)
    assert all(wave[i - 1] >= 0 > wave[i] for i in falling)
    assert rising | falling == set(crossings(wave).tolist())
    assert not rising & falling
    assert abs(len(rising) - len(falling)) <= 1


def test_the_next_crossing_on_and_back_in_the_direction_asked_for():
    tone = source(sine(100.0, 1.0))
    period = RATE // 100
    assert next_crossing(tone, 0, 100, 1, Direction.RISING) == pytest.approx(period, abs=1)
    assert next_crossing(tone, 0, 100, 1, Direction.FALLING) == pytest.approx(period // 2, abs=1)
    assert next_crossing(tone, 0, 5 * period + 100, -1, Direction.RISING) == pytest.approx(5 * period, abs=1)
    first = next_crossing(tone, 0, 1000, 1)
    assert next_crossing(tone, 0, first + 1, -1) in (first, None) or first > 1000


def test_steps_on_and_back_visit_the_same_crossings():
    noise = source(rng(1).standard_normal((4000, 1)))
    there, at = [], 0
    while (found := next_crossing(noise, 0, at, 1)) is not None:
        there.append(found)
        at = found
    back, at = [], 4000
    while (found := next_crossing(noise, 0, at, -1)) is not None:
        back.append(found)
        at = found
    assert there == back[::-1] == crossings(noise.read(0, 4000)[:, 0]).tolist()


def test_there_is_no_crossing_in_silence_or_beyond_the_ends():
    quiet = source(np.full((3 * RATE, 1), 0.2))
    assert next_crossing(quiet, 0, 10, 1) is None
    assert next_crossing(quiet, 0, 10, -1) is None
    assert next_crossing(source(sine(seconds=0.1)), 0, 4800, 1) is None
    assert nearest_crossing(quiet, 0, 500, 100) is None


def test_the_nearest_crossing_is_none_too_far():
    tone = source(sine(100.0, 1.0))
    assert nearest_crossing(tone, 0, 470, 30) == pytest.approx(480, abs=1)
    assert nearest_crossing(tone, 0, 400, 30) is None
    assert nearest_crossing(tone, 0, 250, 300, Direction.RISING) in (0, 1, 480, 481)


@pytest.mark.parametrize("pitch", [55.0, 110.0, 220.0, 440.0, 880.0])
def test_a_cycle_is_as_long_as_the_pitch_says(pitch):
    wave = sum(sine(pitch * n, 0.1, level=1 / n)[:, 0] for n in (1, 2, 3))
    assert cycle_of(wave, RATE) == pytest.approx(RATE / pitch, abs=1)


def test_noise_and_silence_have_no_cycle():
    assert cycle_of(rng(2).standard_normal(4000), RATE) is None
    assert cycle_of(np.zeros(4000), RATE) is None
    assert cycle_of(np.ones(3), RATE) is None


def test_an_edge_moves_by_a_cycle_of_a_voice_and_by_a_crossing_of_noise():
    spoken = source(voice(1.0))
    step = next_cycle(spoken, 0, 20_000, 1) - 20_000
    assert RATE / 160 < step < RATE / 90
    assert next_cycle(spoken, 0, 20_000 + step, -1) == pytest.approx(20_000, abs=60)
    noise = source(rng(3).standard_normal((RATE, 1)))
    found = next_cycle(noise, 0, 20_000, 1)
    wave = noise.read(0, RATE)[:, 0]
    assert wave[found - 1] < 0 <= wave[found]
    assert next_cycle(source(sine(100.0, 1.0)), 0, RATE - 10, 1) is None
