import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, chord, clipped, on_grid, rng, voice
from umbrick.core.survey.tops.flat_tops import Tops, find_tops, grid_step, slot_frames, slot_levels
from umbrick.core.survey.tops.frayed_rails import TOLERANCE, WIDE, breadths, frayed_rails


def tops_of(wave, tolerance=1e-6, slot=256):
    levels = slot_levels(wave, slot)
    return find_tops(wave, levels, slot, np.full_like(levels, tolerance))


@given(st.integers(1, 2000), st.integers(16, 300))
def test_slot_levels_are_the_highest_samples(frames, slot):
    wave = rng(frames).standard_normal(frames).astype(np.float32)
    levels = slot_levels(wave, slot)
    assert levels.tolist() == [wave[start : start + slot].max() for start in range(0, frames, slot)]


def test_a_natural_top_turns_like_a_parabola_and_a_cut_one_does_not():
    wave = (0.8 * np.sin(2 * np.pi * 300 * np.arange(RATE) / RATE)).astype(np.float32)
    natural = tops_of(wave, 1e-3)
    cut = tops_of(np.minimum(wave, np.float32(0.7)), 1e-3)
    assert np.median(natural.cut) < 1.5
    assert np.median(cut.cut) > 5
    assert np.median(cut.length) > np.median(natural.length)


def test_two_equal_samples_astride_a_crest_are_no_flat_top_unless_more_was_cut_off():
    t = np.arange(4000) - 2000.5
    crest = (0.8 * np.cos(2 * np.pi * 0.02 * t)).astype(np.float32)
    natural = tops_of(crest, 1e-5)
    assert set(natural.length.tolist()) == {2}
    assert natural.cut.max() < 20
    t = np.arange(4000) - 2000.4
    cut = tops_of(np.minimum(0.8 * np.cos(2 * np.pi * 0.09 * t), 0.74).astype(np.float32), 1e-5)
    assert np.median(cut.cut[cut.length == 2]) > 200


def test_tops_are_where_the_wave_is_flat():
    wave = np.zeros(1000, np.float32)
    wave[300:309] = 0.5
    tops = tops_of(wave)
    assert (tops.start.tolist(), tops.length.tolist()) == ([300], [9])
    assert tops.level[0] == 0.5


def test_nothing_is_sought_in_silence():
    assert len(tops_of(np.zeros(1000, np.float32)).start) == 0
    assert len(Tops.joined([]).start) == 0
    assert len(Tops.joined([Tops.none(), Tops.none()]).start) == 0


@pytest.mark.parametrize("rate", [8000, 44100, 48000, 192000])
def test_a_slot_is_about_ten_milliseconds(rate):
    assert 0.005 < slot_frames(rate) / rate <= 0.0107
    assert slot_frames(100) == 16


@pytest.mark.parametrize(("bits", "gain", "step"), [(16, 1.0, 2.0**-15), (16, 0.5, 2.0**-16), (8, 1.0, 2.0**-7)])
def test_the_grid_of_a_shorter_word_length_is_seen(bits, gain, step):
    sound = (on_grid(0.9 * voice(2.0), bits) * gain).astype(np.float32)
    assert grid_step(sound) == pytest.approx(step, rel=0.01)


def test_float_sound_has_no_grid():
    assert grid_step((0.9 * voice(2.0)).astype(np.float32)) < 1e-6


def test_frayed_rails_need_a_crowd():
    def rails(sound):
        wave = np.ascontiguousarray(sound[:, 0], np.float32)
        levels = slot_levels(wave, 512)
        narrow, wide = (find_tops(wave, levels, 512, levels * np.float32(by)) for by in (TOLERANCE, WIDE))
        return frayed_rails(narrow, wide, breadths(wave, levels, 512), 512, RATE)

    rough = clipped(voice(8.0), 0.05)[0] + 0.004 * rng(3).standard_normal((8 * RATE, 1))
    assert rails(rough)
    assert all(rail.bits > 0 and len(rail.tops.start) >= 30 for rail in rails(rough))
    assert not rails(0.15 * voice(8.0))
    assert not rails(chord(8.0))
    assert rails(np.zeros((512, 1))) == []
