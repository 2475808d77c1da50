"""What a person does by hand: the laws that hold for every method, and what each makes of a sound."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, chord, rng, sine, voice
from umbrick.core.errors import ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.filling.graft import Clip, put_in, put_over
from umbrick.core.mend.levelling.level_curve import LevelCurve
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.change import Change
from umbrick.core.timeline.history import History
from umbrick.core.timeline.lifting import lift_off, span_of
from umbrick.core.timeline.positions import map_position
from umbrick.core.timeline.runs import Runs
from umbrick.core.timeline.version import Version
from umbrick.core.units import parse_frames


def version_of(sound):
    return Version.of(ArraySource(sound.astype(np.float32), RATE, "s"))


def done(version, method, start, stop, channels=(0,), **settings):
    return apply_method(version, method_named(method), settings, [Place(start, stop, channels)])


def sound_of(version):
    return version.read(0, version.frames)


WORK = [
    ("redraw", {"shape": "curve"}, 0),
    ("redraw", {"shape": "line"}, 0),
    ("redraw", {"shape": "smooth"}, 0),
    ("redraw", {"shape": "value", "value": 0.25}, 0),
    ("level", {"gain_db": -7, "ramp_ms": 1}, 0),
    ("level", {"curve": "0:0 8:6 9:0"}, 0),
    ("fade", {"direction": "out", "shape": "log"}, 0),
    ("fade", {"direction": "in", "shape": "equal_power", "to": "room_tone"}, 0),
    ("graft", {"crossfade_ms": 1}, 48),
    ("splice", {"time": "keep", "crossfade_ms": 1}, 48),
]
SPEECH = np.vstack([voice(1.5), 0.001 * rng(3).standard_normal((RATE // 2, 1)), voice(1.5, seed=4)])
TWO = np.hstack([SPEECH, -0.7 * SPEECH])


@pytest.mark.parametrize(("name", "settings_", "beyond"), WORK)
@settings(deadline=None, max_examples=7)
@given(st.integers(200, len(TWO) - 3000), st.integers(9, 2000), st.sampled_from([(0,), (1,), (0, 1)]))
def test_only_the_place_and_the_declared_crossfade_change_and_it_can_be_lifted_off(
    name, settings_, beyond, start, length, channels
):
    version = version_of(TWO)
    history = History(version)
    mended = done(version, name, start, start + length, channels, **settings_)
    before, after = sound_of(version), sound_of(mended.version)
    assert before.shape == after.shape
    changed = np.flatnonzero((before != after).any(axis=1))
    assert not len(changed) or (changed[0] >= start - beyond and changed[-1] < start + length + beyond)
    untouched = [c for c in (0, 1) if c not in channels]
    assert np.array_equal(before[:, untouched], after[:, untouched])
    assert all(map_position(mended.version, version, p) == p for p in (0, start, start + length, version.frames))
    made = history.push(mended.edit(name))
    assert span_of(history.current, history.entry(made.made[0].id)) == (start, start + length)
    history.push(lift_off(history, [made.made[0].id]))
    assert np.array_equal(sound_of(history.current), before)


@pytest.mark.parametrize("settings_", [{}, {"search_ms": 0}, {"crossfade_ms": 0}, {"curve": "linear"}])
@settings(deadline=None, max_examples=7)
@given(st.integers(3000, len(TWO) - 9000), st.integers(1, 5000))
def test_a_splice_takes_all_of_the_place_out_and_tells_the_shift(settings_, start, length):
    version = version_of(TWO)
    mended = done(version, "splice", start, start + length, (0, 1), **settings_)
    mend = mended.mends[0]
    assert mend.start <= start
    assert mend.stop >= start + length
    fade = round(mend.parameters["crossfade_ms"] * RATE / 1000)
    assert mend.stop - mend.start - length <= 2 * 0.012 * RATE + 0.02 * RATE + 2
    if settings_.get("search_ms") != 0:
        assert mend.start + fade // 2 <= start, "nothing of what goes is heard in the crossfade"
    assert mend.time_shift == mended.version.frames - version.frames == mend.start - mend.stop
    before, after = sound_of(version), sound_of(mended.version)
    assert np.array_equal(after[: mend.start - fade], before[: mend.start - fade])
    assert np.array_equal(after[mend.start + fade :], before[mend.stop + fade :])
    again = done(version, "splice", mend.start, mend.stop, (0, 1), **mend.parameters)
    assert np.array_equal(sound_of(again.version), after)
    history = History(version)
    made = history.push(mended.edit("splice"))
    assert map_position(history.current, version, mend.start) in range(mend.start - 1, mend.stop + 1)
    history.push(lift_off(history, [made.made[0].id]))
    assert np.array_equal(sound_of(history.current), before)


def test_a_cut_in_a_held_note_joins_in_phase_in_the_same_direction():
    version = version_of(sine(220.0, 2.0))
    cut = done(version, "splice", 30000, 33333)
    removed = -cut.mends[0].time_shift
    assert abs(removed / (RATE / 220) - round(removed / (RATE / 220))) < 0.01
    wave = sound_of(cut.version)[:, 0].astype(float)
    assert np.abs(np.diff(wave, 2)).max() < 1.05 * np.abs(np.diff(sine(220.0, 0.1)[:, 0], 2)).max()
    assert cut.mends[0].seam_score == 1.0
    naive = done(version, "splice", 30000, 33333, search_ms=0, crossfade_ms=0)
    assert naive.mends[0].seam_score < 0.5


def test_paying_back_keeps_everything_after_the_next_pause_where_it_was():
    version = version_of(SPEECH)
    mended = done(version, "splice", 20000, 24000, time="payback")
    assert mended.version.frames == version.frames
    assert mended.mends[0].time_shift == 0
    before, after = sound_of(version), sound_of(mended.version)
    pause_end = round(2.0 * RATE)
    assert np.array_equal(before[pause_end:], after[pause_end:])
    quiet = after[round(1.6 * RATE) : round(1.95 * RATE)]
    assert 0.0007 < quiet.std() < 0.0014
    history = History(version)
    made = history.push(mended.edit("splice"))
    history.push(lift_off(history, [made.made[0].id]))
    assert np.array_equal(sound_of(history.current), before)
    with pytest.raises(ParameterError, match="no pause"):
        done(version_of(sine(seconds=3.0)), "splice", 20000, 24000, time="payback")


def test_a_hole_in_a_played_line_is_filled_from_beside_without_moving_anything():
    truth = chord(3.0)
    holed = truth.copy()
    holed[70000:70400] = 0
    mended = done(version_of(holed), "splice", 70000, 70400, time="keep")
    filled = sound_of(mended.version)
    assert filled.shape == truth.shape
    assert np.square(filled - truth).sum() < 0.05 * np.square(holed - truth).sum()


def test_a_curve_through_one_wrong_sample_of_a_low_note_is_within_a_thousandth():
    truth = sine(55.0, 0.5, level=0.05)
    wrong = truth.copy()
    wrong[5000] += 0.02
    after = sound_of(done(version_of(wrong), "redraw", 5000, 5001).version)
    assert np.abs(after - truth).max() < 5e-5
    line = sound_of(done(version_of(wrong), "redraw", 5000, 5001, shape="line").version)
    assert np.abs(after - truth).max() < np.abs(line - truth).max()


def test_curves_keep_level_and_slope_at_both_ends_and_smoothing_takes_roughness_off():
    wave = sine(100.0, 0.2, level=0.5)
    holed = wave.copy()
    holed[3000:3060] = 0
    after = sound_of(done(version_of(holed), "redraw", 3000, 3060).version).astype(float)
    assert np.abs(np.diff(after[2990:3070, 0], 2)).max() < 5 * np.abs(np.diff(wave[:, 0], 2)).max()
    rough = wave + 0.01 * rng().standard_normal(wave.shape)
    smooth = sound_of(done(version_of(rough), "redraw", 2000, 2600, shape="smooth").version).astype(float)
    assert np.square(smooth - wave)[2000:2600].sum() < 0.5 * np.square(rough - wave)[2000:2600].sum()


def test_a_level_change_is_never_a_right_angle_and_is_exact_in_its_middle():
    version = version_of(np.full((RATE, 1), 0.5))
    after = sound_of(done(version, "level", 10000, 30000, gain_db=-6, ramp_ms=20).version)[:, 0]
    assert after[20000] == pytest.approx(0.5 * 10 ** (-6 / 20), rel=1e-6)
    assert np.abs(np.diff(20 * np.log10(after))).max() < 6 / 960 * 1.01
    with pytest.raises(ParameterError, match="0 dB"):
        done(version, "level", 10000, 30000, curve="0:-6 9000:0")
    done(version, "level", 0, 30000, curve="0:-6 9000:0")


@settings(deadline=None)
@given(st.lists(st.tuples(st.integers(0, 10**6), st.floats(-60, 40)), max_size=12))
def test_a_level_curve_is_what_it_is_written_as(nodes):
    curve = LevelCurve.of([(frame, round(gain_db, 2)) for frame, gain_db in nodes])
    assert LevelCurve.parsed(curve.text) == curve
    for frame, gain_db in curve.nodes:
        assert curve.gain_db_at(frame) == pytest.approx(gain_db)


@pytest.mark.parametrize("shape", ["linear", "equal_power", "s", "log"])
def test_fades_begin_at_nothing_end_at_all_and_only_rise(shape):
    version = version_of(np.ones((1000, 1)))
    inward = sound_of(done(version, "fade", 100, 900, direction="in", shape=shape).version)[100:900, 0]
    outward = sound_of(done(version, "fade", 100, 900, direction="out", shape=shape).version)[100:900, 0]
    assert inward[0] == outward[-1] == 0
    assert inward[-1] > 0.99
    assert (np.diff(inward) >= 0).all()
    assert np.array_equal(inward, outward[::-1])


def test_a_fade_to_the_room_tone_ends_in_it():
    after = sound_of(done(version_of(SPEECH), "fade", 20000, 68000, direction="out", to="room_tone").version)
    assert 0.0006 < after[66000:68000].std() < 0.0016


@settings(deadline=None, max_examples=20)
@given(st.integers(0, RATE), st.integers(100, 5000), st.integers(0, RATE))
def test_a_pasted_clip_is_there_and_what_follows_comes_later(at, length, position):
    version = version_of(voice(1.2))
    clip = Clip(version, at, min(at + length, version.frames), (0,))
    stretch = put_in(version, position, clip, 0)
    change = Change.of(version, [stretch.start], [stretch.stop], Runs.of([stretch.pieces]))
    after, before = sound_of(change.apply(version)), sound_of(version)
    assert np.array_equal(after[:position], before[:position])
    assert np.array_equal(after[position : position + clip.frames], before[clip.start : clip.stop])
    assert np.array_equal(after[position + clip.frames :], before[position:])


def test_paste_over_keeps_the_clip_whole_and_mixing_adds_it():
    version = version_of(voice(1.2))
    clip = Clip(version, 5000, 6000, (0,))
    before = sound_of(version)
    for adds, gain in ((False, 1.0), (False, -0.5), (True, 2.0)):
        stretch = put_over(version, Place(20000, 21000, (0,)), clip, 240, gain, adds)
        change = Change.of(version, [stretch.start], [stretch.stop], Runs.of([stretch.pieces]))
        after = sound_of(change.apply(version))
        expected = gain * before[5000:6000] + (before[20000:21000] if adds else 0)
        assert after[20000:21000] == pytest.approx(expected, abs=1e-6)
        assert np.array_equal(after[:19760], before[:19760])
        assert np.array_equal(after[21240:], before[21240:])


def test_a_bar_is_cut_to_the_frame_and_loops():
    beat = round(60 / 96 * RATE)
    version = version_of(np.vstack([chord(1.0), voice(3.0)]))
    mended = done(version, "trim", 1000, version.frames, length="4 beats at 96", ends="loop", crossfade_ms=5)
    assert mended.version.frames == 4 * beat
    wave = np.tile(sound_of(mended.version)[:, 0], 2)
    steps = np.abs(np.diff(wave))
    assert steps[4 * beat - 1] <= np.quantile(steps, 0.99)
    faded = done(version, "trim", 1000, version.frames, length="2.5 s", ends="fade").version
    assert faded.frames == round(2.5 * RATE)
    assert sound_of(faded)[[0, -1]] == pytest.approx(0, abs=1e-4)
    assert np.array_equal(sound_of(done(version, "trim", 7, 9, ends="leave").version), sound_of(version)[7:9])
    with pytest.raises(ParameterError, match="ends before that length"):
        done(version, "trim", 1000, version.frames, length="1 min")


def test_a_loop_seam_is_mended_with_what_follows_or_else_with_its_own_tail():
    version = version_of(voice(3.0))
    inside = done(version, "splice", 20000, 60000, seam="loop", crossfade_ms=20)
    assert inside.version.frames == version.frames
    loop = np.tile(inside.version.read(20000, 60000)[:, 0], 2)
    assert np.abs(np.diff(loop, 3))[39990:40010].max() < np.abs(np.diff(loop, 3)).max()
    assert np.array_equal(loop[960:40000], sound_of(version)[20960:60000, 0])
    whole = done(version, "splice", 0, version.frames, seam="loop", crossfade_ms=20)
    assert whole.version.frames == version.frames - 960


def test_beats_and_bars_are_typed_like_other_times():
    assert parse_frames("4 beats at 96", RATE) == parse_frames("1 bar", RATE, 96) == parse_frames("2.5 s", RATE)
    assert parse_frames("1/3 beat at 96", RATE) == round(RATE * 60 / 96 / 3)
    for text in ("4 beats", "3 s at 96"):
        with pytest.raises(ParameterError):
            parse_frames(text, RATE)
