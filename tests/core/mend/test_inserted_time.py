"""Blanks that were put in are closed up, and what was lost is filled."""

import numpy as np
import pytest

from tests.sounds import RATE, voice
from umbrick.core.mend.plan import applied
from umbrick.core.mend.remedies import first_remedy
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version

AT = RATE // 2 + 77


def opened(sound):
    return Version.of(ArraySource(sound.astype(np.float32), RATE, "s"))


def hole(length):
    return Finding("f1", "dropout", AT, AT + length, (0,), 0.5, 0.9, "")


@pytest.mark.parametrize("length", [300, 2000, 7000])
def test_a_blank_that_was_put_in_is_closed_up_to_the_very_sound(length):
    truth = voice(2.0).astype(np.float32)
    version = opened(np.concatenate([truth[:AT], np.zeros((length, 1)), truth[AT:]]))
    remedy = first_remedy(hole(length), version)
    assert (remedy.title, remedy.method.name) == ("Close up", "splice")
    made = applied(version, remedy, [], lambda: False).version
    assert np.array_equal(made.read(0, made.frames), truth)


@pytest.mark.parametrize("length", [300, 2000, 7000])
def test_sound_that_is_lost_is_filled(length):
    sound = voice(2.0)
    sound[AT : AT + length] = 0
    assert first_remedy(hole(length), opened(sound)).method.time_shift == "none"


def test_what_tells_nothing_is_filled():
    noise = 0.1 * np.random.default_rng(0).standard_normal((2 * RATE, 1))
    sound = np.concatenate([noise[:AT], np.zeros((500, 1)), noise[AT:]])
    assert first_remedy(hole(500), opened(sound)).method.time_shift == "none"
    assert first_remedy(hole(500), opened(np.zeros((RATE, 1)))).method.time_shift == "none"
