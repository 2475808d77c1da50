"""Pauses: where nothing but the room is heard."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, rng, sine, voice
from umbrick.core.errors import CancelledError
from umbrick.core.measure.pauses import all_pauses, nearest_pause, next_pause
from umbrick.core.sound.source import ArraySource


def source_of(*parts):
    return ArraySource(np.vstack(parts).astype(np.float32), RATE, "s")


def room(seconds, seed=0):
    return 0.001 * rng(seed).standard_normal((round(seconds * RATE), 1))


@settings(deadline=None, max_examples=12)
@given(st.floats(0.5, 4.0), st.floats(0.25, 1.5))
def test_a_pause_between_two_words_is_found_without_its_edges(before, length):
    source = source_of(voice(before), room(length), voice(1.0, seed=2))
    start, stop = next_pause(source, 0)
    assert start >= round(before * RATE)
    assert stop <= round(before * RATE) + round(length * RATE)
    assert stop - start >= 0.6 * length * RATE - 0.04 * RATE


def test_what_lies_behind_is_not_the_next_pause():
    source = source_of(voice(1.0), room(0.5), voice(1.0, seed=2), room(0.6, seed=1), voice(0.5, seed=3))
    first = next_pause(source, 0)
    second = next_pause(source, first[1] + RATE // 2)
    assert first[1] <= 1.5 * RATE
    assert second[0] >= 2.5 * RATE


@pytest.mark.parametrize(
    "parts",
    [
        (sine(seconds=3),),  # a held tone has no pause
        (voice(1.0), room(0.06), voice(1.0, seed=2)),  # a stop consonant is none either
        (np.zeros((0, 1)),),
    ],
)
def test_where_there_is_no_pause_none_is_made_up(parts):
    source = source_of(*parts)
    assert next_pause(source, 0) is None
    assert nearest_pause(source, source.frames // 2) is None


def test_the_nearest_pause_may_lie_before_or_after():
    source = source_of(voice(2.0), room(0.4), voice(4.0, seed=2), room(0.4, seed=1), voice(2.0, seed=3))
    assert nearest_pause(source, round(3.0 * RATE))[1] <= 2.4 * RATE
    assert nearest_pause(source, round(5.5 * RATE))[0] >= 6.4 * RATE
    inside = nearest_pause(source, round(2.2 * RATE))
    assert inside[0] <= 2.2 * RATE <= inside[1]


def test_a_pause_longer_than_the_window_is_seen_and_digital_silence_counts_as_one():
    source = source_of(voice(1.0), room(25.0), voice(1.0, seed=2))
    assert next_pause(source, 0)[1] >= 19 * RATE
    assert next_pause(source_of(voice(1.0), np.zeros((RATE, 1)), voice(1.0, seed=2)), 0) is not None


def test_all_pauses_are_found_whole_also_across_the_windows_they_are_measured_in():
    sound = 0.3 * rng(1).standard_normal((50 * RATE, 1))
    wanted = [(5.0, 5.5), (19.6, 20.6), (33.0, 33.2), (39.95, 40.4)]
    for start, stop in wanted:
        sound[round(start * RATE) : round(stop * RATE)] *= 1e-3
    shares = []
    found = all_pauses(ArraySource(sound, RATE, "words"), shares.append)
    assert len(found) == len(wanted)
    for (start, stop), (begin, end) in zip(found, wanted, strict=True):
        assert begin <= start / RATE <= begin + 0.05
        assert end - 0.05 <= stop / RATE <= end
    assert shares[-1] == 1.0
    with pytest.raises(CancelledError):
        all_pauses(ArraySource(sound, RATE, "words"), is_cancelled=lambda: True)
