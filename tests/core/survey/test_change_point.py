"""Where a level changes is told by what is heard on both sides."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from umbrick.core.survey.levels.change_point import change_point

_REACH, _CHANGE_DB = 200, -9.0
_SOUNDS_DB = np.array([[-20.0, -30, -40], [-35, -25, -28], [-70, -68, -66]])
"""A vowel, a consonant and a pause, in three bands."""


def _speech(seed: int, times: int = 1600) -> np.ndarray:
    """Return levels of a recording in which three sounds take turns, each a little different every time."""
    random = np.random.default_rng(seed)
    turns = np.repeat(random.integers(0, 3, times), random.integers(5, 60, times))[:times]
    return _SOUNDS_DB[turns] + random.normal(0, 1.5, (times, 3))


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10**6), at=st.integers(700, 900), guess=st.integers(-150, 150))
def test_a_change_of_level_is_found_where_it_is(seed, at, guess):
    levels_db = _speech(seed)
    levels_db[at:] += _CHANGE_DB
    assert abs(change_point(levels_db, at + guess, _CHANGE_DB, _REACH) - at) <= 3


def test_a_change_just_where_a_pause_begins_is_no_later_than_the_pause():
    levels_db = _speech(1)
    levels_db[780:820] = _SOUNDS_DB[0]
    levels_db[820:860] = _SOUNDS_DB[2]
    levels_db[820:] += _CHANGE_DB
    assert abs(change_point(levels_db, 800, _CHANGE_DB, _REACH) - 820) <= 3


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10**6), guess=st.integers(-150, 150))
def test_in_a_note_that_swells_from_one_level_to_the_other_it_is_where_all_bands_jump(seed, guess):
    swell_db = np.interp(np.arange(1600), [0, 799, 800, 1599], [_CHANGE_DB, 0, 0, -_CHANGE_DB])
    levels_db = _SOUNDS_DB[0] + swell_db[:, np.newaxis] + np.random.default_rng(seed).normal(0, 1, (1600, 3))
    levels_db[800:] += _CHANGE_DB
    assert abs(change_point(levels_db, 800 + guess, _CHANGE_DB, _REACH) - 800) <= 3


@settings(max_examples=25, deadline=None)
@given(times=st.integers(2, 60), at=st.integers(1, 59), reach=st.integers(8, 300))
def test_the_place_lies_within_however_short_a_recording_is(times, at, reach):
    levels_db = _speech(2, times)
    place = change_point(levels_db, min(at, times - 1), 6.0, reach)
    assert 0 < place < times
