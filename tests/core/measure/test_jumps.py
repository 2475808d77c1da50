import numpy as np
import pytest

from tests.sounds import RATE, rng, sine, voice
from umbrick.core.measure.jumps import OwnJumps, band_powers, jumps, spectral_distances_db
from umbrick.core.measure.pauses import nearest_pause, next_pause
from umbrick.core.mend.cutting.seams import read_seam
from umbrick.core.sound.source import ArraySource

ROOM = 0.002


def source(sound):
    return ArraySource(sound.astype(np.float32), RATE, "s")


@pytest.fixture(scope="module")
def spoken():
    """A phrase, half a second of room, another phrase."""
    room = ROOM * rng(5).standard_normal((RATE // 2, 1))
    return np.vstack([voice(1.5), room, voice(1.5, seed=4)])


def test_a_change_of_level_slope_or_colour_shows_in_its_own_figure():
    tone = sine(300.0, 0.1)
    louder, broken, brighter = 2 * tone, tone[150:], sine(3000.0, 0.1)
    same = jumps(tone[:960], tone[960:1920], RATE)
    assert jumps(tone[:960], louder[960:1920], RATE).level_db == pytest.approx(6.02, abs=0.1)
    assert same.level_db < 0.1
    assert jumps(tone[:960], broken[960:1920], RATE).slope > 20 * same.slope
    assert jumps(tone[:960], brighter[960:1920], RATE).spectral_db > same.spectral_db + 10


def test_a_click_at_the_join_shows_in_the_spectrum_though_both_sides_are_alike():
    tone = sine(300.0, 0.1)
    smooth = jumps(tone[:960], tone[960:1920], RATE)
    clicking = tone[960:1920].copy()
    clicking[0] += 0.3
    assert jumps(tone[:960], clicking, RATE).spectral_db > smooth.spectral_db + 3


def test_too_little_sound_is_no_jump():
    assert jumps(np.zeros((0, 1)), np.ones((5, 1)), RATE) == (0.0, 0.0, 0.0)
    short = source(np.zeros((10, 1)))
    assert OwnJumps(short, 5, 5).read(np.zeros((5, 1)), np.zeros((5, 1))).score == 1.0


def test_bands_hold_all_the_power_and_spectra_are_no_distance_from_themselves():
    stretches = rng(1).standard_normal((4, 960, 2))
    powers = band_powers(stretches, RATE)
    window = np.hanning(962)[1:-1, np.newaxis]
    whole = (np.abs(np.fft.rfft(stretches * window, axis=1)) ** 2).sum(axis=(1, 2)) / 960
    assert powers.sum(axis=1) == pytest.approx(whole)
    distances = spectral_distances_db(powers, powers)
    assert np.diag(distances) == pytest.approx(0)
    assert distances == pytest.approx(distances.T)


def test_a_recordings_own_jumps_score_as_usual_and_a_hard_cut_does_not(spoken):
    sound = source(spoken)
    own = OwnJumps(sound, 40_000, 40_000)
    inside = [own.read(spoken[at - 960 : at], spoken[at : at + 960]).score for at in range(5000, 35_000, 501)]
    assert np.mean(np.array(inside) > 0.5) > 0.7
    hard = read_seam(sound, 20_000, 90_000 + 13, 0)
    assert hard.score < 0.2


def test_pauses_are_found_where_the_room_is(spoken):
    sound = source(spoken)
    start, stop = next_pause(sound, 10_000)
    assert 1.5 * RATE <= start < 1.6 * RATE
    assert 1.9 * RATE < stop <= 2.0 * RATE
    assert nearest_pause(sound, 100_000) == (start, stop)
    assert nearest_pause(sound, 20_000) == (start, stop)
    assert next_pause(sound, 2 * RATE) is None
    assert next_pause(source(np.zeros((RATE, 1))), 0) is None
    assert next_pause(source(np.zeros((0, 1))), 0) is None
