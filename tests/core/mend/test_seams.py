import numpy as np
import pytest

from tests.sounds import RATE, chord, rng, sine, voice
from umbrick.core.measure.jumps import OwnJumps
from umbrick.core.mend.cutting.seams import fade_reach, measured, seams
from umbrick.core.mend.filling.room_tone import room_tone, room_tone_near
from umbrick.core.sound.source import ArraySource

ROOM = 0.002


def source(sound):
    return ArraySource(sound.astype(np.float32), RATE, "s")


@pytest.fixture(scope="module")
def spoken():
    """A phrase, half a second of room, another phrase."""
    room = ROOM * rng(5).standard_normal((RATE // 2, 1))
    return np.vstack([voice(1.5), room, voice(1.5, seed=4)])


@pytest.mark.parametrize("frames", [1, 1000, 5 * RATE])
def test_room_tone_is_as_long_as_asked_as_loud_as_the_pause_and_always_the_same(spoken, frames):
    pause = spoken[round(1.5 * RATE) : 2 * RATE]
    tone = room_tone(pause, frames, RATE)
    assert tone.shape == (frames, 1)
    assert np.array_equal(tone, room_tone(pause, frames, RATE))
    if frames > RATE:
        levels = tone.reshape(-1, RATE // 4).std(axis=1)
        assert levels == pytest.approx(ROOM, rel=0.15)
    near = room_tone_near(source(spoken), 20_000, frames)
    assert near.shape == (frames, 1)


def test_seams_are_ranked_apart_and_take_all_of_the_span_out():
    sound = source(np.vstack([chord(2.0), voice(2.0)]))
    found = seams(sound, 120_000, 125_000, search=600, fades=(144, 384))
    assert 1 < len(found) <= 5
    for seam in found:
        assert seam.out + seam.fade // 2 <= 120_000
        assert seam.into - seam.fade // 2 >= 125_000
    removed = [seam.removed for seam in found]
    assert min(np.diff(sorted(removed))) >= RATE / 1000
    tenths = [round(10 * seam.reading.score) for seam in found]
    assert tenths == sorted(tenths, reverse=True)


@pytest.mark.parametrize(("out", "into"), [(0, 4000), (100, 20_000), (30_000, 48_000), (0, 48_000)])
def test_crossfades_are_as_long_as_there_is_sound(out, into):
    sound = source(voice(1.0))
    before, after = fade_reach(sound.frames, out, into, 960)
    assert out - before >= 0
    assert into + after <= sound.frames
    assert before + after <= 960
    seam = measured(sound, out, into, 960, "linear", OwnJumps(sound, out, into))
    assert (seam.fade, seam.shape) == (before + after, "linear")


def test_a_wave_that_never_crosses_zero_is_cut_all_the_same():
    sound = source(0.5 + 0.1 * sine(100.0, 2.0))
    found = seams(sound, 40_000, 42_000, search=480, fades=(96,))
    assert found[0].removed == pytest.approx(5 * 480, abs=40), "a whole number of cycles"
