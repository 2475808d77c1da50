import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, chord, rng, sine, voice
from umbrick.core.areas import treating
from umbrick.core.areas.alike import places_alike
from umbrick.core.areas.area import Area
from umbrick.core.areas.around import foretold
from umbrick.core.areas.gather import Gathering
from umbrick.core.areas.placed import gathered_at, line_at
from umbrick.core.areas.shapes import Box, Cells
from umbrick.core.errors import ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version


def version_of(sound, rate=RATE):
    return Version.of(ArraySource(sound.astype(np.float32), rate, "area"))


def treated(version, start, stop, channels=(0,), **settings):
    made = apply_method(version, method_named("area"), settings, [Place(start, stop, channels)])
    return made.version.read(0, version.frames).astype(float)


def whistle(start, stop, hz=2300.0, level=0.2):
    frames = stop - start
    ramp = np.minimum(1, np.minimum(np.arange(frames), np.arange(frames)[::-1]) / 960)
    glide = hz * (1 + 0.01 * np.sin(2 * np.pi * 4 * np.arange(frames) / RATE))
    return level * ramp * np.sin(2 * np.pi * np.cumsum(glide) / RATE)


def with_whistle(seconds=6.0, start=2 * RATE, stop=3 * RATE):
    right = voice(seconds, seed=4)
    wrong = right.copy()
    wrong[start:stop, 0] += whistle(start, stop)
    return right, wrong


def level_db(change, low, high, rate=RATE):
    """Return the power of a change in a band."""
    power = np.abs(np.fft.rfft(change)) ** 2
    hz = np.fft.rfftfreq(len(change), 1 / rate)
    return 10 * np.log10(power[(hz >= low) & (hz < high)].sum() + 1e-30)


@settings(max_examples=15, deadline=None)
@given(
    st.sampled_from([("level", 8000, 48_000), ("auto", 8000, 22_050), ("rebuild", 16_000, 48_000)]),
    st.integers(2000, 30_000),
    st.integers(4800, 30_000),
    st.integers(0, 5),
)
def test_nothing_changes_outside_the_place_nor_far_from_the_band(case, start, length, seed):
    action, low_rate, rate = case
    sound = rng(seed).standard_normal((64_000, 2)) * 0.1
    low, high = 1000, low_rate // 4
    version = version_of(sound, rate)
    stop = start + length
    after = treated(version, start, stop, (1,), action=action, band_hz=f"{low}-{high}", sides="before")
    before = version.read(0, 64_000).astype(float)
    change = after - before
    assert not change[:, 0].any()
    assert not change[:start, 1].any()
    assert not change[stop:, 1].any()
    # Rounding to single precision is no change of the area's.
    rounding = np.abs(before).max() * 2**-24 * np.sqrt(length)
    far = level_db(change[:, 1], high + 1500, rate / 2, rate) if high + 1500 < rate / 2 else -np.inf
    assert far <= max(level_db(change[:, 1], low, high, rate) - 100, 20 * np.log10(rounding) + 40)


def test_a_level_is_changed_by_just_that_inside_and_not_beside():
    sound = sine(1000, 3.0, 0.1) + sine(3000, 3.0, 0.1)
    after = treated(version_of(sound), RATE, 2 * RATE, action="level", gain_db=-20.0, band_hz="2500-3500")
    inside = after[RATE + 4800 : 2 * RATE - 4800, 0]
    assert level_db(inside, 2900, 3100) - level_db(inside, 900, 1100) == pytest.approx(-20, abs=0.2)


def test_a_whistle_is_taken_out_of_a_voice_and_leaves_no_hole():
    right, wrong = with_whistle()
    start, stop = 2 * RATE - 400, 3 * RATE + 400
    after = treated(version_of(wrong), start, stop, band_hz="2200-2400")
    error, planted = after[start:stop] - right[start:stop], wrong[start:stop] - right[start:stop]
    assert 10 * np.log10(np.sum(planted**2) / np.sum(error**2)) > 15
    own = level_db(right[start:stop, 0], 2200, 2400)
    assert level_db(after[start:stop, 0], 2200, 2400) == pytest.approx(own, abs=6)
    lowered = treated(version_of(wrong), start, stop, band_hz="2200-2400", action="auto")
    assert level_db(lowered[start:stop, 0], 2200, 2400) < level_db(wrong[start:stop, 0], 2200, 2400) - 12


def test_a_knock_goes_and_a_click_in_it_is_no_tone():
    right = 0.3 * voice(4.0)
    t = np.arange(RATE // 6) / RATE
    knock = sum(np.exp(-t / 0.012) * np.sin(2 * np.pi * hz * t) for hz in (170, 410, 730))
    wrong = right.copy()
    wrong[2 * RATE : 2 * RATE + len(t), 0] += knock
    start, stop = 2 * RATE - 400, 2 * RATE + len(t)
    ratios = []
    for action in ("rebuild", "auto"):
        after = treated(version_of(wrong), start, stop, band_hz="60-1200", action=action)
        ratios.append(np.sum((after - right) ** 2) / np.sum((wrong - right) ** 2))
    assert ratios[0] < 10 ** (-10 / 10)
    assert ratios[0] < 1.5 * ratios[1]


def test_what_is_foretold_is_as_loud_as_what_is_beside():
    swell = 1 + 0.95 * np.sin(np.arange(200) / 9)[:, np.newaxis]
    truth = np.square(swell) * np.ones((200, 120))
    covered = np.zeros_like(truth)
    covered[60:140, 50:62] = 1.0
    power = truth + 50 * covered
    found = foretold(power, covered, 0.0053, 23.4)
    off_db = np.abs(10 * np.log10(found[60:140, 56] / truth[60:140, 56]))
    assert np.percentile(off_db, 80) < 1
    assert off_db.max() < 10
    assert np.array_equal(found[:50], power[:50])


def test_strength_is_how_much_of_it_is_done():
    _, wrong = with_whistle()
    version = version_of(wrong)
    span = 2 * RATE, 3 * RATE
    whole, half, none = (treated(version, *span, band_hz="2200-2400", strength=part) for part in (100, 50, 0))
    assert np.allclose(half, (whole + none) / 2, atol=1e-6)
    assert np.array_equal(none, version.read(0, version.frames))


def test_a_copy_has_the_donor_in_the_band_and_the_own_sound_beside():
    sound = sine(1000, 4.0, 0.1)
    sound[RATE : 2 * RATE] += sine(3000, 1.0, 0.1)
    after = treated(version_of(sound), 3 * RATE, 4 * RATE - 1, action="copy", donor=RATE, band_hz="2500-3500")
    inside, donor = after[3 * RATE + 4800 : 4 * RATE - 4800, 0], sound[RATE + 4800 : 2 * RATE - 4800, 0]
    for low, high in ((2900, 3100), (900, 1100)):
        assert level_db(inside, low, high) == pytest.approx(level_db(donor, low, high), abs=0.2)


def test_one_click_gathers_a_whistle():
    _, wrong = with_whistle()
    version = version_of(wrong)
    found = gathered_at(version, 0, 5 * RATE // 2, 2290.0, Gathering())
    start, stop, low, high = found.area.extent
    assert found.start + start == pytest.approx(2 * RATE, abs=2000)
    assert found.start + stop == pytest.approx(3 * RATE, abs=2000)
    assert 2000 < low < 2280
    assert 2320 < high < 2700
    assert gathered_at(version, 0, 4 * RATE, 9000.0, Gathering()) is None


def test_one_click_gathers_all_of_a_bell_and_nothing_that_was_there_before():
    partials = [(1000.0, 0.2, 0.35), (2760.0, 0.08, 0.2), (5400.0, 0.03, 0.1)]
    time = np.arange(RATE) / RATE
    sound = 1e-4 * rng(5).standard_normal((5 * RATE, 1)) + 0.02 * sine(3500, 5.0, 1.0)
    for hz, level, decay in partials:
        sound[2 * RATE : 3 * RATE, 0] += level * np.exp(-time / decay) * np.sin(2 * np.pi * hz * time)
    found = gathered_at(version_of(sound), 0, 2 * RATE + 2000, 1000.0, Gathering())
    size = 2048
    cells = Cells(2 * RATE + 1000 - found.start, 512, 1, RATE / size, size // 2 + 1)
    covered = found.area.covered(cells)[0]
    assert all(covered[round(hz * size / RATE)] > 0.9 for hz, _, _ in partials)
    assert covered[round(3500 * size / RATE)] == 0


def test_a_found_line_has_its_area_or_its_band():
    _, wrong = with_whistle()
    version = version_of(wrong)
    found = line_at(version, 0, 2 * RATE + 900, 3 * RATE - 900, (2270.0, 2330.0))
    assert found.start <= 2 * RATE + 900
    assert found.stop >= 3 * RATE - 900
    quiet = line_at(version, 0, 4 * RATE, 5 * RATE, (9000.0, 9100.0))
    assert quiet.area.extent[2] < 9000
    assert quiet.area.extent[3] > 9100


def test_beeps_like_one_are_found_and_nothing_else():
    sound = 0.3 * voice(20.0, seed=2)
    frames = round(0.2 * RATE)
    places = [2, 5, 9, 12, 16]
    for number, second in enumerate(places):
        at = second * RATE + 1000 * number
        sound[at : at + frames, 0] += whistle(at, at + frames, 3100, 0.06)
    version = version_of(sound)
    area = Area.of(Box(0, frames, 3030, 3170))
    found = places_alike(version, 0, 5 * RATE + 1000, area)
    expected = [
        second * RATE + 1000 * number - (5 * RATE + 1000) for number, second in enumerate(places) if number != 1
    ]
    assert [one.moved for one in found] == pytest.approx(expected, abs=1200)
    assert places_alike(version_of(chord(6.0)), 0, RATE, Area.of(Box(0, frames, 5000, 5200))) == []


@pytest.mark.parametrize(
    "settings", [{"band_hz": "30000-40000"}, {"outline": "99999999:100 999999999:200 99999999:300"}]
)
def test_an_area_that_holds_nothing_is_refused(settings):
    with pytest.raises(ParameterError):
        treated(version_of(voice(1.0)), 1000, 9000, **settings)


def test_a_long_area_is_done_in_pieces_whose_borders_cannot_be_heard(monkeypatch):
    sound = sine(1000, 6.0, 0.1) + sine(3000, 6.0, 0.1)
    version = version_of(sound)
    whole = treated(version, RATE, 5 * RATE, action="level", band_hz="2500-3500")
    monkeypatch.setattr(treating, "_PIECE_SECONDS", 1.0)
    monkeypatch.setattr(treating, "CONTEXT_SECONDS", 0.5)
    pieces = treated(version, RATE, 5 * RATE, action="level", band_hz="2500-3500")
    inside = slice(RATE + 4800, 5 * RATE - 4800)
    assert np.abs(pieces - whole)[inside].max() < 1e-6
    assert np.abs(whole - sound)[inside].max() > 0.05


def test_silence_and_short_recordings_stay_as_they_are():
    for frames in (1, 2, 50, 5000):
        silent = np.zeros((frames, 1))
        for action in ("level", "auto", "rebuild"):
            assert not treated(version_of(silent), 0, frames, action=action).any()
