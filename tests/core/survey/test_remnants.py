"""What still sounds in a hole: the same sound, fainter, or another one."""

import numpy as np
import pytest

from tests.core.survey.test_kinds import speech, surveyed
from tests.sounds import RATE
from umbrick.core.survey.holes.remnants import unlike_beside_db

START, STOP = 3 * RATE, 3 * RATE + round(0.03 * RATE)


def hole(within):
    """Return six seconds of even noise in which something else sounds for 30 ms."""
    wave = 0.2 * np.random.default_rng(3).standard_normal(6 * RATE)
    wave[START:STOP] = within(wave[START:STOP])
    return wave.astype(np.float32)


@pytest.mark.parametrize("fall_db", [20.0, 35.0, 50.0])
def test_the_same_sound_fainter_is_like_what_is_beside_it(fall_db):
    faint = hole(lambda wave: wave * 10 ** (-fall_db / 20))
    assert unlike_beside_db(faint, START, STOP, RATE) < 5


def test_a_tone_where_noise_was_and_what_dies_away_are_unlike_it():
    tone = hole(lambda wave: 0.01 * np.sin(2 * np.pi * 120 * np.arange(len(wave)) / RATE))
    dying = hole(lambda wave: wave * 10 ** (-np.linspace(15, 60, len(wave)) / 20))
    assert unlike_beside_db(tone, START, STOP, RATE) > 24
    assert unlike_beside_db(dying, START, STOP, RATE) > 15


def test_what_is_too_short_to_tell_is_not_unlike():
    assert unlike_beside_db(np.ones(50, np.float32), 20, 26, RATE) == 0


def test_a_voice_that_is_faint_for_a_moment_is_missed_and_another_sound_there_is_not():
    sound = speech(8.0)
    level = np.abs(sound[:, 0])
    at = int(np.argmax(np.convolve(level, np.ones(RATE // 10), "valid"))) + RATE // 20
    inside = slice(at, at + round(0.03 * RATE))
    faint, other = sound.copy(), sound.copy()
    faint[inside] *= 0.02
    hum = np.sin(2 * np.pi * 110 * np.arange(inside.stop - inside.start) / RATE)
    other[inside, 0] = 0.014 * hum * level[inside].max() * np.linspace(1, 0.2, len(hum))
    (found,) = surveyed(faint, RATE, ["dropout"]).sifted({})
    assert abs(found.start - inside.start) < 0.002 * RATE
    assert surveyed(other, RATE, ["dropout"]).sifted({}) == []


def test_hum_that_is_added_to_all_of_it_does_not_hide_a_hole():
    sound = speech(8.0)
    at = int(np.argmax(np.convolve(np.abs(sound[:, 0]), np.ones(RATE // 10), "valid"))) + RATE // 20
    sound[at : at + round(0.02 * RATE)] = 0
    hummed = sound + 0.002 * np.sin(2 * np.pi * 50 * np.arange(len(sound)) / RATE)[:, np.newaxis]
    (found,) = surveyed(hummed, RATE, ["dropout"]).sifted({})
    assert abs(found.start - at) < 0.002 * RATE
