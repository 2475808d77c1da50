"""Lull where a gate has left holes in the pauses: they are filled with the recording's own room tone."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.course.laying import heard, opened, through
from tests.sounds import RATE, rng, voice
from umbrick.core.course import rendered
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import ParameterError
from umbrick.core.measure.silences import shortest_silence, silences
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.source import ArraySource

PHRASE, PAUSE = 2 * RATE, 2 * RATE
HOLE = slice(PHRASE + RATE // 2, PHRASE + RATE * 3 // 2)


def spoken(channels=1, alike=0.0):
    """Two phrases over a dull room tone with a pause between them; the room tone of it is known."""
    quiet = np.zeros((PAUSE, 1))
    words = np.concatenate([0.5 * voice(2.0), quiet, 0.5 * voice(2.0, seed=2), quiet])
    white = rng(5).standard_normal((len(words), channels + 1))
    own = np.sqrt(alike) * white[:, :1] + np.sqrt(1 - alike) * white[:, 1:]
    room = 0.001 * (own + np.roll(own, 1, axis=0))
    return words + room


def gated(sound):
    made = sound.copy()
    made[HOLE] = 0.0
    return made


def lulled(sound, **given_):
    version = opened(sound.astype(np.float32), RATE)
    step = new_step(METHODS["lull"], {"holes": "fill", **given_}, tuple(range(version.channels)), None, ())
    return version, learned(Ground(version, version, Tiles()), (), step)


def level_db(sound):
    return 10 * np.log10(np.square(sound.astype(float)).mean())


@pytest.mark.parametrize("amount_db", [0.0, 12.0])
def test_a_hole_in_a_pause_sounds_as_the_pause_does_and_words_stay(amount_db):
    sound = spoken()
    version, step = lulled(gated(sound), amount_db=amount_db)
    after = heard(through(version, step))
    inside = slice(HOLE.start + RATE // 10, HOLE.stop - RATE // 10)
    assert level_db(after[inside]) == pytest.approx(level_db(sound[inside]) - amount_db, abs=1.0)
    for words in (slice(0, PHRASE), slice(PHRASE + PAUSE, 2 * PHRASE + PAUSE)):
        assert np.array_equal(after[words], heard(version)[words])
    spectrum, true = (np.abs(np.fft.rfft(s[inside, 0])) ** 2 for s in (after, sound))
    quarter = len(true) // 4
    tilt, true_tilt = (level_db(np.sqrt(s[:quarter])) - level_db(np.sqrt(s[-quarter:])) for s in (spectrum, true))
    assert tilt == pytest.approx(true_tilt, abs=2.0), "as dull as the room"


def test_what_is_not_asked_to_be_filled_stays_silent():
    version, step = lulled(gated(spoken()), holes="keep")
    assert not heard(through(version, step))[HOLE].any()
    assert step.profile == {}


@pytest.mark.parametrize("alike", [0.0, 0.9])
def test_channels_of_a_filled_hole_are_as_alike_as_those_of_the_room(alike):
    version, step = lulled(gated(spoken(2, alike)), amount_db=0.0)
    after = heard(through(version, step))[HOLE]
    assert np.corrcoef(after.T)[0, 1] == pytest.approx(alike, abs=0.1)


def test_a_hole_that_reaches_to_the_words_is_filled_as_far():
    sound = spoken()
    sound[PHRASE - 400 : PHRASE + PAUSE // 2] = 0.0
    version, step = lulled(sound, amount_db=0.0, ramp_ms=0.0)
    after = heard(through(version, step))
    assert level_db(after[PHRASE - 390 : PHRASE]) > -65
    assert np.array_equal(after[: PHRASE - 400], heard(version)[: PHRASE - 400])


def test_where_there_is_no_room_tone_it_says_so():
    words = np.concatenate([0.5 * voice(1.0), np.zeros((RATE, 1)), 0.5 * voice(1.0, seed=2), np.zeros((RATE, 1))])
    with pytest.raises(ParameterError, match="digital silence"):
        lulled(words)


@settings(deadline=None, max_examples=8)
@given(st.lists(st.integers(HOLE.start - 3000, HOLE.stop + 3000), max_size=6, unique=True))
def test_in_whatever_blocks_it_is_read_the_tone_is_the_same(cuts):
    version, step = lulled(gated(spoken()))
    whole = heard(through(version, step))
    tile = rendered.TILE
    try:
        rendered.TILE = 4096
        made = through(version, step)
        edges = [0, *sorted(cuts), version.frames]
        parts = [made.read(a, b) for a, b in itertools.pairwise(edges)]
    finally:
        rendered.TILE = tile
    assert np.abs(np.concatenate(parts) - whole).max() < 1e-6


@settings(deadline=None, max_examples=30)
@given(st.lists(st.integers(1, 3000), min_size=1, max_size=8))
def test_silences_are_the_long_runs_of_nothing(lengths):
    rate, at, parts, expected = 48_000, 0, [], []
    for number, length in enumerate(lengths):
        if number % 2:
            parts.append(np.zeros((length, 2), np.float32))
            if length >= shortest_silence(rate):
                expected.append((at, at + length))
        else:
            parts.append(np.full((length, 2), 0.1, np.float32))
        at += length
    assert silences(ArraySource(np.concatenate(parts), rate, "s"), [(0, at)]) == expected
