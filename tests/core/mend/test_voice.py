"""Plosives and sibilance tamed: what stands out goes, what is beside and above it stays."""

import numpy as np
import pytest
from scipy.signal import butter, sosfiltfilt

from tests.sounds import RATE, faultless, rng
from umbrick.core.errors import ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

START = 2 * RATE


def band_db(samples, low, high):
    """Return the level of a band over the place."""
    band = sosfiltfilt(butter(4, [low, high], "bandpass", fs=RATE, output="sos"), samples[:, 0].astype(float))
    return 10 * np.log10(np.square(band[START : START + RATE // 10]).mean())


def popped():
    """A voice with a burst of breath, and the place of it."""
    voice = 0.4 * faultless(5.0)
    at = np.arange(RATE // 10) / RATE
    burst = 0.5 * np.sin(2 * np.pi * (35 + 200 * at) * at) * np.minimum(1, at / 0.01) * np.exp(-at / 0.03)
    sound = voice.copy()
    sound[START : START + len(at), 0] += burst
    return voice, sound, Place(START - 480, START + len(at) + 480, (0,))


def mended(sound, method, place, **settings):
    version = Version.of(ArraySource(sound, RATE, "v"))
    made = apply_method(version, METHODS[method], settings, [place]).version
    before, after = version.read(0, version.frames), made.read(0, version.frames)
    assert np.array_equal(before[: place.start], after[: place.start])
    assert np.array_equal(before[place.stop :], after[place.stop :])
    return after


def test_a_plosive_comes_down_to_the_voice_and_what_is_above_it_stays():
    voice, sound, place = popped()
    after = mended(sound, "plosive", place)
    loudest = max(band_db(np.roll(voice, -shift, axis=0), 20, 250) for shift in range(-RATE, 2 * RATE, RATE // 10))
    assert band_db(sound, 20, 250) > loudest + 6
    assert band_db(after, 20, 250) < loudest + 3
    assert band_db(after, 400, 6000) == pytest.approx(band_db(sound, 400, 6000), abs=0.2)


def test_a_burst_goes_wholly_where_the_voice_has_nothing_below():
    voice, sound, place = popped()
    burst = sound - voice
    thin = sosfiltfilt(butter(6, 250, "highpass", fs=RATE, output="sos"), voice, axis=0)
    after = mended(thin + burst, "plosive", place)
    assert band_db(after, 20, 110) < band_db(thin + burst, 20, 110) - 35


def test_a_typed_crossover_and_a_cut_do_as_they_say():
    _, sound, place = popped()
    cut = mended(sound, "plosive", place, using="cut", crossover_hz=200, amount_db=20)
    assert band_db(cut, 40, 120) < band_db(sound, 40, 120) - 10
    assert band_db(cut, 500, 6000) == pytest.approx(band_db(sound, 500, 6000), abs=0.3)
    with pytest.raises(ParameterError, match="too little sound"):
        mended(sound[START - 500 : START + 5400], "plosive", Place(500, 5300, (0,)))


def hissing(levels):
    """A voice between whose words stand consonants of some levels, and the places of these."""
    sound, places = 0.2 * faultless(8.0), []
    for number, level in enumerate(levels):
        hiss = sosfiltfilt(butter(4, 4000, "highpass", fs=RATE, output="sos"), rng(number).standard_normal(RATE // 10))
        start = START if number == 0 else round((number - 0.5) * RATE)
        sound[start : start + len(hiss), 0] = level * hiss * np.hanning(len(hiss))
        places.append(Place(start, start + len(hiss), (0,)))
    return sound, places


def test_a_sharp_consonant_comes_down_to_the_others():
    sound, places = hissing([0.4, 0.1, 0.1, 0.1, 0.1, 0.1, 0.1])
    after = mended(sound, "sibilance", places[0], amount_db=20)
    usual = 20 * np.log10(0.1 / 0.4)
    assert band_db(after, 4000, 16000) - band_db(sound, 4000, 16000) == pytest.approx(usual, abs=3)


def test_one_like_the_others_is_left_and_a_shelf_lowers_by_its_amount():
    sound, places = hissing([0.1, 0.1, 0.1, 0.1, 0.1, 0.1, 0.1])
    after = mended(sound, "sibilance", places[0])
    assert band_db(after, 4000, 16000) == pytest.approx(band_db(sound, 4000, 16000), abs=3)
    shelved = mended(sound, "sibilance", places[0], using="shelf", amount_db=6)
    assert band_db(shelved, 4000, 16000) == pytest.approx(band_db(sound, 4000, 16000) - 6, abs=0.5)
