"""How far a part goes on from a level step."""

import numpy as np
import pytest

from tests.sounds import RATE, voice
from umbrick.core.measure.level_part import change_at, part_beside
from umbrick.core.sound.source import ArraySource


def stepped(start, stop, gain, seconds=20.0):
    sound = voice(seconds)
    sound[round(start * RATE) : round(stop * RATE)] *= gain
    return ArraySource(sound, RATE, "stepped")


@pytest.mark.parametrize("gain", [0.15, 4.0])
def test_a_part_between_two_steps_is_found_from_either(gain):
    source = stepped(6.0, 13.0, gain)
    start, stop = part_beside(source, 6 * RATE, is_after=True)
    assert start == 6 * RATE
    assert stop == pytest.approx(13 * RATE, abs=RATE // 3)
    start, stop = part_beside(source, 13 * RATE, is_after=False)
    assert start == pytest.approx(6 * RATE, abs=RATE // 3)
    assert stop == 13 * RATE


def test_a_part_goes_on_to_the_end_where_nothing_ends_it():
    source = stepped(0.0, 8.0, 0.1)
    assert part_beside(source, 8 * RATE, is_after=True) == (8 * RATE, 20 * RATE)
    assert part_beside(source, 8 * RATE, is_after=False) == (0, 8 * RATE)


def test_beside_silence_there_is_no_part():
    source = ArraySource(np.zeros((6 * RATE, 1)), RATE, "silent")
    assert part_beside(source, 3 * RATE, is_after=True) is None


def test_a_step_is_by_what_is_louder_after_it_and_none_once_it_is_levelled():
    for gain_db in (-14.0, 12.0):
        source = stepped(6.0, 13.0, 10 ** (gain_db / 20))
        assert change_at(source, 6 * RATE) == pytest.approx(gain_db, abs=2.5)
        assert change_at(source, 13 * RATE) == pytest.approx(-gain_db, abs=2.5)
    assert abs(change_at(stepped(6.0, 13.0, 1.0), 6 * RATE)) < 2.5
