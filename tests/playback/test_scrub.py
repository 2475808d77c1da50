"""Scrubbing, taken apart: where the hand is thought to be, and what sounds under it."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from umbrick.playback.scrub import SCRUB_FRAMES, Hand, Scrubber, reach_of, resampled

RATE = 48000


def moved_hand(speed, told=6, every=0.01, start=10_000.0):
    hand = Hand(start, 0.0)
    for step in range(1, told):
        hand.moved(start + speed * RATE * every * step, every * step)
    return hand, every * (told - 1)


@pytest.mark.parametrize("speed", [-2.0, -0.5, 0.1, 1.0, 3.0])
def test_the_hand_is_expected_where_it_is_going(speed):
    hand, last = moved_hand(speed)
    assert hand.velocity(last) == pytest.approx(speed * RATE)
    assert hand.expected(last + 0.01) == pytest.approx(10_000 + speed * RATE * (last + 0.01))


def test_a_hand_of_which_nothing_is_told_rests_where_it_was():
    hand, last = moved_hand(1.0)
    assert hand.velocity(last + 0.1) == 0.0
    assert hand.expected(last + 0.1) == 10_000 + RATE * last
    assert Hand(500.0, 0.0).velocity(0.0) == 0.0


@settings(deadline=None, max_examples=40)
@given(st.floats(-1e6, 1e6), st.integers(0, 5000), st.integers(1, 2**20))
def test_a_path_never_leaves_the_recording_and_goes_on_where_it_ended(towards, start, frames):
    scrubber = Scrubber(min(start, frames), RATE, frames)
    hand = Hand(min(start, frames), 0.0)
    hand.moved(towards, 0.02)
    first = scrubber.path(hand, 0.02, SCRUB_FRAMES)
    second = scrubber.path(hand, 0.025, SCRUB_FRAMES)
    for path in (first, second):
        assert len(path) == SCRUB_FRAMES + 1
        assert path.min() >= 0
        assert path.max() <= frames
    lowest, highest = reach_of(first)
    assert lowest <= first.min()
    assert highest >= first.max()
    assert scrubber.position == second[-1]


def test_a_jump_too_far_to_be_heard_is_made_at_once():
    scrubber = Scrubber(0, RATE, 100 * RATE)
    hand = Hand(0.0, 0.0)
    hand.moved(50.0 * RATE, 0.01)
    path = scrubber.path(hand, 0.5, SCRUB_FRAMES)
    assert abs(path[0] - 50 * RATE) < 0.1 * RATE


def test_sound_along_a_path_at_full_speed_is_the_sound_itself_and_backward_its_mirror():
    sound = np.random.default_rng(3).standard_normal((600, 2)).astype(np.float32)
    path = np.arange(100.0, 357.0)
    forward = resampled(sound, 0, path)
    assert np.allclose(forward[1:-1], (sound[100:357][:-1] / 2 + sound[101:358][:-1] / 2)[1:-1], atol=1e-5)
    assert np.allclose(resampled(sound, 0, path[::-1]), forward[::-1], atol=1e-6)


def test_what_goes_by_too_fast_to_be_heard_does_not_alias():
    high = np.sin(np.pi * 0.9 * np.arange(20_000))[:, np.newaxis].astype(np.float32)
    assert np.abs(resampled(high, 0, np.linspace(1000, 15_000, SCRUB_FRAMES + 1))).max() < 0.05


def test_a_hand_that_rests_falls_silent_instead_of_holding_a_sample():
    scrubber = Scrubber(1000, RATE, RATE)
    hand = Hand(1000.0, 0.0)
    held = np.ones((SCRUB_FRAMES, 1), np.float32)
    for _ in range(3):
        scrubber.path(hand, 1.0, SCRUB_FRAMES)
        sounding = scrubber.faded(held)
    assert np.all(sounding == 0)
