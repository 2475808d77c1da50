"""What is said before work begins: it never gets better for more damage, and it says why."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from umbrick.core.measure.prognosis import NOTHING_WRONG, Outlook, holes_outlook, noise_outlook, worst

RANK = ("good", "fair", "poor")
HOLES = st.lists(st.floats(0.001, 0.5), max_size=6)


def rank(outlook):
    return RANK.index(outlook.grade)


@given(HOLES, st.floats(0.001, 0.5), st.floats(10, 10000))
def test_one_more_hole_never_makes_it_better(lengths, more, whole):
    assert rank(holes_outlook(np.array([*lengths, more]), whole)) >= rank(holes_outlook(np.array(lengths), whole))


@given(HOLES, st.floats(10, 1000))
def test_the_same_holes_in_a_longer_recording_are_no_worse(lengths, whole):
    assert rank(holes_outlook(np.array(lengths), 2 * whole)) <= rank(holes_outlook(np.array(lengths), whole))


@given(st.floats(0, 60), st.floats(0, 60))
def test_more_noise_never_makes_it_better(one_db, other_db):
    louder, softer = sorted((one_db, other_db))
    assert rank(noise_outlook(louder)) >= rank(noise_outlook(softer))


@pytest.mark.parametrize(
    ("lengths_ms", "whole", "grade", "says"),
    [
        ([], 60, "good", "Nothing is clipped"),
        ([4], 60, "good", "in one place, 4 ms: expect it to be filled"),
        ([4, 20, 6], 60, "good", "in 3 places, up to 20 ms at once"),
        ([4, 90], 60, "fair", "in 2 places, up to 90 ms at once: expect what is short to be filled"),
        ([450], 60, "poor", "0.5 s of sound are missing in one place, 450 ms: what was there cannot be brought back"),
        ([30] * 40, 50, "poor", "1.2 s of sound are missing in 40 places, up to 30 ms at once"),
    ],
)
def test_holes_are_told_by_how_many_and_how_long(lengths_ms, whole, grade, says):
    outlook = holes_outlook(np.array(lengths_ms) / 1e3, whole)
    assert outlook.grade == grade
    assert says in outlook.reason


@pytest.mark.parametrize(
    ("over_db", "grade", "says"),
    [
        (None, "good", "Nothing is clipped, missing or buried in noise."),
        (30.0, "good", "Nothing is clipped, missing or buried in noise."),
        (20.4, "fair", "The noise is 20 dB under the loud passages"),
        (9.0, "poor", "just 9 dB under the loud passages: quiet sound is lost in it"),
    ],
)
def test_noise_is_told_by_how_far_it_is_under_the_sound(over_db, grade, says):
    outlook = noise_outlook(over_db)
    assert outlook.grade == grade
    assert says in outlook.reason


@given(st.lists(st.sampled_from(RANK), min_size=1, max_size=5))
def test_the_worst_decides_and_the_first_of_equals(grades):
    outlooks = [Outlook(grade, f"reason {number}") for number, grade in enumerate(grades)]
    decided = worst(outlooks)
    assert rank(decided) == max(map(rank, outlooks))
    assert decided is next(one for one in outlooks if one.grade == decided.grade)


def test_that_nothing_is_wrong_is_said_only_if_there_is_nothing_better_to_say():
    fine = Outlook("good", "Clipping is light: expect it to be rebuilt.")
    assert worst([NOTHING_WRONG, fine, NOTHING_WRONG]) is fine
    assert worst([NOTHING_WRONG, NOTHING_WRONG]) is NOTHING_WRONG
