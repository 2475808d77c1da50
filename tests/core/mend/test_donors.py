import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, sosfilt

from tests.sounds import RATE, chord, rng, sine, voice
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.cutting.crossfade import SHAPES, chosen_shape, crossfaded, likeness, rising
from umbrick.core.mend.cutting.fitting import best_fit, matching_start
from umbrick.core.mend.filling.donors import donors, donors_anywhere
from umbrick.core.mend.filling.graft import Clip, donor_of, filled, put_in, put_over
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.band_limited import shifted
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.change import delete
from umbrick.core.timeline.version import Version


def version_of(sound, key="s"):
    return Version.of(ArraySource(sound.astype(np.float32), RATE, key))


@pytest.mark.parametrize("shape", SHAPES)
@given(st.integers(1, 500))
def test_crossfades_keep_the_level_they_are_for(shape, frames):
    gain = rising(frames, shape)[:, 0]
    assert (np.diff(gain) >= 0).all()
    assert gain + gain[::-1] == pytest.approx(1) if shape != "equal_power" else True
    if shape == "equal_power":
        assert gain**2 + gain[::-1] ** 2 == pytest.approx(1)


def test_the_shape_is_chosen_by_how_alike_both_sides_are():
    tone, noise, other = sine(200.0, 0.01), rng(1).standard_normal((480, 1)), rng(2).standard_normal((480, 1))
    assert likeness(tone, tone) == pytest.approx(1)
    assert likeness(tone, -tone) == pytest.approx(-1)
    assert likeness(tone, 0 * tone) == 0
    assert chosen_shape(tone, tone) == "s"
    assert chosen_shape(noise, other) == "equal_power"
    assert chosen_shape(tone, tone, "linear") == "linear"
    assert crossfaded(tone, tone) == pytest.approx(tone)
    assert crossfaded(noise, other).std() == pytest.approx(1, rel=0.15)


def test_donors_continue_both_sides_and_lie_apart_and_never_on_the_place():
    sound = chord(6.0)
    sound[150_000:150_480] = 0
    found = donors(ArraySource(sound, RATE, "c"), 150_000, 150_480, [0])
    assert len(found) > 1
    assert found[0].likeness > 0.95
    assert [d.likeness for d in found] == sorted((d.likeness for d in found), reverse=True)
    starts = sorted(d.start for d in found)
    assert min(np.diff(starts)) >= 0.003 * RATE
    assert all(d.start + 480 < 150_000 or d.start > 150_480 for d in found)


def test_a_donor_of_half_the_level_is_raised():
    tone = sine(220.0, 2.0, level=0.4)
    tone[:RATE] *= 0.5
    tone[72_000:72_400] = 0
    quiet = [d for d in donors(ArraySource(tone, RATE, "t"), 72_000, 72_400, [0]) if d.start < 47_000]
    assert all(abs(d.gain) == pytest.approx(2.0, rel=0.05) for d in quiet)


@pytest.mark.parametrize("rate", [RATE, 22050])
def test_the_same_sound_a_minute_away_is_found_to_the_frame(rate):
    def murmur(seed, seconds):
        noise = rng(seed).standard_normal((round(seconds * rate), 1))
        return sosfilt(butter(2, 3000, fs=rate, output="sos"), noise, axis=0)

    phrase, at = murmur(1, 2.0), round(3.2 * rate)
    sound = 0.1 * np.concatenate([murmur(2, 2.0), phrase, murmur(3, 61.0), 0.8 * phrase, murmur(4, 5.0)])
    gap = round(0.3 * rate)
    truth = sound[at : at + gap].copy()
    sound[at : at + gap] = 0
    best = donors_anywhere(ArraySource(sound, rate, "m"), at, at + gap, [0])[0]
    assert best.start == at + 2 * rate + 61 * rate
    assert best.gain == pytest.approx(1.25, rel=0.01)
    version = Version.of(ArraySource(sound.astype(np.float32), rate, "m"))
    found = filled(version, Place(at, at + gap, (0,)), anywhere=True)
    assert found.donor == best.start
    assert found.stretch.pieces[0].source.read_exact(0, gap) == pytest.approx(truth, abs=1e-6)


@pytest.mark.parametrize("factor", [0.8, -0.6])
def test_a_donor_may_lie_between_two_frames_and_stand_on_its_head(factor):
    noise = rng(1).standard_normal((2 * RATE, 1))
    phrase = sosfilt(butter(4, 3000, fs=RATE, output="sos"), noise, axis=0)
    later = factor * shifted(phrase, 0.375)
    sound, at, gap = 0.1 * np.concatenate([phrase, later]), RATE, 960
    truth = sound[at : at + gap].copy()
    sound[at : at + gap] = 0
    version, place = version_of(sound), Place(at, at + gap, (0,))
    done = apply_method(version, METHODS["graft"], {}, [place])
    made = done.version.read_exact(at, at + gap)
    assert np.square(made - truth).sum() < 1e-4 * np.square(truth).sum()
    parameters = done.mends[0].parameters
    assert parameters["donor"] == pytest.approx(at + 2 * RATE - 0.375, abs=0.05)
    assert parameters["polarity"] == ("inverted" if factor < 0 else "same")
    again = apply_method(version, METHODS["graft"], parameters, [place])
    assert np.array_equal(again.version.read_exact(0, version.frames), done.version.read_exact(0, version.frames))


@pytest.mark.parametrize(
    ("method", "settings"), [("graft", {"search": "all"}), ("splice", {"time": "keep"}), ("collapse", {"time": "keep"})]
)
def test_a_long_search_can_be_cancelled(method, settings):
    # A place with more of it than lies nearby, so that all of the recording is gone through.
    version, place = version_of(0.1 * rng(1).standard_normal((9 * RATE, 1))), Place(RATE, 8 * RATE, (0,))
    asked = []

    def second_thoughts():
        asked.append(True)
        return len(asked) > 1

    with pytest.raises(CancelledError):
        apply_method(version, METHODS[method], settings, [place], is_cancelled=second_thoughts)
    assert len(asked) == 2


def test_there_is_no_donor_in_too_little_sound():
    assert donors(ArraySource(np.zeros((100, 1)), RATE, "z"), 10, 90, [0]) == []
    version = version_of(np.zeros((100, 1)))
    with pytest.raises(ParameterError, match="No stretch of the recording"):
        filled(version, Place(10, 90, (0,)))
    with pytest.raises(ParameterError, match="cannot begin"):
        filled(version, Place(10, 60, (0,)), donor=90)


def test_a_filling_can_be_inverted_added_and_levelled():
    version = version_of(voice(2.0))
    place = Place(50_000, 51_000, (0,))
    sound = version.read(0, version.frames)
    for gain, adds in ((-1.0, False), (0.5, True)):
        found = filled(version, place, 20_000, 0, gain, adds)
        made = np.concatenate([p.source.read(p.start, p.start + p.length) for p in found.stretch.pieces])
        expected = gain * sound[20_000:21_000] + (sound[50_000:51_000] if adds else 0)
        assert made == pytest.approx(expected, abs=1e-6)
        assert found.donor == 20_000


@settings(deadline=None, max_examples=15)
@given(st.integers(-700, 700), st.floats(0.4, 2.5))
def test_a_copy_is_fitted_to_where_it_came_from_and_levelled(off, gain):
    sound = voice(2.0)
    version = version_of(sound)
    clip = Clip(version_of(gain * sound, "louder"), 40_000 + off, 42_000 + off, (0,))
    found = best_fit(version, clip, 40_000)
    assert found.start == 40_000
    assert found.factor == pytest.approx(1 / gain, rel=0.01)


def test_a_copy_without_room_around_it_cannot_be_fitted():
    version = version_of(voice(1.0))
    assert best_fit(version, Clip(version, 0, version.frames, (0,)), 0) is None


def test_a_copy_snaps_to_crossings_in_its_own_direction():
    version = version_of(sine(100.0, 1.0))
    rising_clip, falling_clip = Clip(version, 4800, 6000, (0,)), Clip(version, 5040, 6000, (0,))
    assert matching_start(version, rising_clip, 9700, 300) == pytest.approx(9600, abs=1)
    assert matching_start(version, falling_clip, 9700, 300) == pytest.approx(9840, abs=1)


def test_clips_know_their_place_in_the_original_through_cuts_and_are_silent_beyond_the_ends():
    version = version_of(voice(1.0))
    cut = delete(version, 1000, 3000).apply(version)
    assert donor_of(cut, Clip(cut, 5000, 6000, (0,))) == 7000
    assert donor_of(cut, Clip(version_of(voice(1.0), "other"), 0, 10, (0,))) is None
    assert not Clip(version, 0, 10, (0,)).read(-20, 0).any()
    assert Clip(version, version.frames - 5, version.frames, (0,)).read(0, 10).shape == (10, 1)


def test_channels_must_fit():
    two, three = version_of(np.zeros((1000, 2))), version_of(np.zeros((1000, 3)), "three")
    mono = Clip(version_of(np.ones((500, 1)), "one"), 0, 100, (0,))
    stretch = put_in(two, 50, mono, 0)
    assert (stretch.pieces[0].source.read(0, 100) == 1).all()
    with pytest.raises(ParameterError, match="2 copied channels"):
        put_over(three, Place(0, 100, (0, 1, 2)), Clip(two, 200, 300, (0, 1)), 0)
