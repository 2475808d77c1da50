"""Hum and noise taken out of sound that is known."""

import numpy as np
import pytest
import scipy.signal

from tests.core.course.laying import heard, opened, through
from tests.sounds import RATE, chord, faultless, rng
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import ParameterError
from umbrick.core.mend.registry import METHODS
from umbrick.core.spectral.room import decay_of, falls_of


def treated(sound, method, rate=RATE, **settings):
    version = opened(sound, rate)
    step = new_step(METHODS[method], settings, tuple(range(version.channels)), None, ())
    step = learned(Ground(version, version, Tiles()), (), step)
    return heard(through(version, step)).astype(float), step


def ratio_db(made, truth):
    return 10 * np.log10(np.sum(truth**2) / np.sum((made - truth) ** 2))


def hum(hz, rate=RATE, level=0.03):
    """Hum of three harmonics whose frequency is given for every frame."""
    turns = np.cumsum(hz) / rate
    wave = sum(np.sin(2 * np.pi * number * turns + number) / number for number in (1, 2, 3))
    return level * wave[:, np.newaxis]


@pytest.mark.parametrize(("rate", "mains"), [(48000, 50.0), (44100, 60.0), (8000, 50 / 3)])
def test_drifting_hum_is_taken_out_and_the_voice_stays(rate, mains):
    voice = 0.4 * faultless(16.0, rate)
    hz = mains + 0.05 * np.sin(np.arange(len(voice)) / rate / 3)
    made, step = treated(voice + hum(hz, rate), "dehum", rate)
    assert np.median(step.profile["hz"]) == pytest.approx(mains, abs=0.06)
    assert ratio_db(made, voice) > ratio_db(voice + hum(hz, rate), voice) + 10


def test_where_there_is_no_hum_it_declines_with_a_reason():
    with pytest.raises(ParameterError, match="no steady hum"):
        treated(0.4 * faultless(8.0), "dehum")
    with pytest.raises(ParameterError, match="too short"):
        treated(0.4 * faultless(1.0), "dehum", fundamental_hz=50)


def test_a_note_at_the_pitch_of_hum_stays():
    frames = 20 * RATE
    note = np.zeros((frames, 1))
    start, stop = 9 * RATE, 10 * RATE
    at = np.arange(stop - start)
    note[start:stop, 0] = 0.2 * np.sin(2 * np.pi * 100 * at / RATE) * np.exp(-at / RATE * 3) * np.minimum(1, at / 500)
    steady = hum(np.full(frames, 50.0)) + 0.003 * rng(5).standard_normal((frames, 1))
    made, _ = treated(note + steady, "dehum")
    assert ratio_db(made[start:stop], note[start:stop]) > 25


def test_harmonics_can_be_spared_one_by_one():
    frames = 12 * RATE
    sound = hum(np.full(frames, 50.0)) + 1e-3 * rng(2).standard_normal((frames, 1))
    made, _ = treated(sound, "dehum", spared="2")
    levels = np.abs(np.fft.rfft(made[:, 0] * np.hanning(frames)))[[600, 1200, 1800]]
    assert levels[1] > 100 * levels[0]
    assert levels[1] > 100 * levels[2]


def test_notches_take_hum_out_too():
    frames = 12 * RATE
    sound = hum(np.full(frames, 50.0)) + 1e-3 * rng(2).standard_normal((frames, 1))
    made, _ = treated(sound, "dehum", using="notch", harmonics=3)
    assert 10 * np.log10(np.square(made[RATE:-RATE]).mean() / np.square(sound).mean()) < -20


@pytest.mark.parametrize("using", ["subtract", "notch"])
def test_a_hum_all_of_whose_harmonics_are_spared_stays(using):
    sound = hum(np.full(6 * RATE, 50.0))
    made, _ = treated(sound, "dehum", using=using, harmonics=2, spared="1 2")
    assert np.array_equal(made.astype(np.float32), sound.astype(np.float32))


@pytest.mark.parametrize("print_", ["0-40000", "adaptive"])
def test_noise_in_pauses_falls_by_what_is_set_and_the_voice_stays(print_):
    clean = np.concatenate([np.zeros((RATE, 1)), 0.4 * faultless(4.0)])
    noisy = clean + 0.01 * rng(3).standard_normal(clean.shape)
    made, _ = treated(noisy, "denoise", print=print_, reduction_db=15)
    assert 10 * np.log10(np.square(made[:40000]).mean() / np.square(noisy[:40000]).mean()) == pytest.approx(-15, abs=1)
    assert ratio_db(made, clean) > ratio_db(noisy, clean) + 5


def test_a_weighting_spares_what_it_is_told_to():
    noise = 0.05 * rng(4).standard_normal((4 * RATE, 1))
    made, _ = treated(noise, "denoise", print="0-96000", weighting="1000:0 2000:-60")
    change = np.abs(np.fft.rfft(made[:, 0])) / np.abs(np.fft.rfft(noise[:, 0]))
    hz = np.fft.rfftfreq(len(noise), 1 / RATE)
    assert np.median(change[hz < 800]) < 0.4
    assert np.median(change[hz > 3000]) > 0.95


def test_noise_is_lowered_in_a_band_alone():
    noise = 0.05 * rng(4).standard_normal((4 * RATE, 1))
    made, _ = treated(noise, "denoise", print="0-96000", band_hz="2000-8000")
    change = np.abs(np.fft.rfft(made[:, 0])) / np.abs(np.fft.rfft(noise[:, 0]))
    hz = np.fft.rfftfreq(len(noise), 1 / RATE)
    assert np.median(change[(hz > 2100) & (hz < 7600)]) < 0.4
    assert np.percentile(np.abs(change[(hz < 1500) | (hz > 10_000)] - 1), 99) < 0.03
    with pytest.raises(ParameterError, match="no band"):
        treated(noise, "denoise", band_hz="8000-2000")


def test_a_clean_chord_is_hardly_touched():
    sound = chord(6.0)
    made, _ = treated(sound, "denoise")
    assert ratio_db(made, sound) > 40


def in_a_room(sound, seconds=0.5, rate=RATE):
    """Sound in a room of decaying noise, and what of it is early."""
    frames = round(seconds * rate)
    response = 0.03 * rng(8).standard_normal(frames) * 10 ** (-3 * np.arange(frames) / frames)
    response[0] = 1
    early = np.where(np.arange(frames) < 0.05 * rate, response, 0)
    return (scipy.signal.fftconvolve(sound[:, 0], part)[: len(sound), np.newaxis] for part in (response, early))


def phrases(rate=RATE):
    """Four phrases with pauses between them."""
    phrase = np.concatenate([0.4 * faultless(1.2, rate, seed=3), np.zeros((round(0.6 * rate), 1))])
    return np.tile(phrase, (4, 1))


def test_a_room_grows_quiet_in_pauses_and_the_voice_comes_nearer():
    dry = phrases()
    wet, early = in_a_room(dry)
    made, _ = treated(wet, "dereverb", amount=0.7)
    late = np.flatnonzero(np.convolve(np.abs(dry[:, 0]), np.ones(2400), "full")[: len(dry)] == 0)
    assert 10 * np.log10(np.square(made[late]).sum() / np.square(wet[late]).sum()) < -5
    assert ratio_db(made, early) > ratio_db(wet, early) + 1


@pytest.mark.parametrize("seconds", [0.4, 0.7, 1.0])
def test_how_a_room_dies_away_is_told_and_that_it_does_so_faster_treated(seconds):
    wet, _ = in_a_room(np.tile(phrases(), (2, 1)), seconds)
    made, _ = treated(wet, "dereverb", amount=1.0)
    before, after = (decay_of(falls_of(opened(s, RATE), [(0, len(s))], (0,)), RATE) for s in (wet, made))
    assert before.sixty_db_seconds == pytest.approx(seconds, rel=0.25)
    assert after.level_db(0.15) < before.level_db(0.15) - 4


def test_a_room_is_spared_where_a_weighting_says_so():
    wet, _ = in_a_room(phrases())
    made, _ = treated(wet, "dereverb", amount=1.0, weighting="1000:0 2000:-60")
    taken = np.abs(np.fft.rfft((made - wet)[:, 0]))
    hz = np.fft.rfftfreq(len(wet), 1 / RATE)
    assert np.square(taken[hz > 2500]).sum() < 1e-3 * np.square(taken[hz < 900]).sum()


@pytest.mark.parametrize(("sound", "reason"), [
    (phrases(), "hardly any room"),
    (chord(6.0), "too little sound|Nothing dies away"),
    (0.01 * rng(2).standard_normal((6 * RATE, 1)), "too little sound|Nothing dies away"),
    (phrases()[: RATE // 2], "too little sound"),
])  # fmt: skip
def test_where_no_room_can_be_told_it_declines_with_a_reason(sound, reason):
    with pytest.raises(ParameterError, match=reason):
        treated(sound, "dereverb")


def lisping(sharp=1.0):
    """A voice with a consonant every half second, of which one is sharper; and where that is."""
    sound = 0.2 * faultless(12.0)
    for number in range(22):
        hiss = scipy.signal.sosfilt(
            scipy.signal.butter(4, 4000, "highpass", fs=RATE, output="sos"), rng(number).standard_normal(RATE // 10)
        )
        start = RATE // 2 * (number + 1)
        level = 0.08 * (sharp if number == 9 else 1)
        sound[start : start + len(hiss), 0] = level * hiss * np.hanning(len(hiss))
    return sound, slice(RATE // 2 * 10, RATE // 2 * 10 + RATE // 10)


def test_a_sharp_consonant_comes_down_to_the_usual_ones_and_the_rest_stays():
    (usual, place), (sharp, _) = lisping(), lisping(4.0)
    made, _ = treated(sharp, "deess", amount_db=20, threshold_db=0)
    level_db = 10 * np.log10(np.square(made[place]).sum() / np.square(usual[place]).sum())
    assert level_db == pytest.approx(0, abs=3)
    elsewhere = np.ones(len(sharp), bool)
    elsewhere[place.start - 2000 : place.stop + 2000] = False
    vowels = elsewhere & (np.arange(len(sharp)) % (RATE // 2) > RATE // 5)
    assert ratio_db(made[vowels], sharp[vowels]) > 60
    gentle, _ = treated(usual, "deess")
    assert ratio_db(gentle, usual) > 15


def test_a_voice_without_consonants_has_none_to_soften():
    with pytest.raises(ParameterError, match="no bright consonants"):
        treated(0.4 * faultless(4.0), "deess")
    with pytest.raises(ParameterError, match="at this rate"):
        treated(0.4 * faultless(4.0, 4000), "deess", 4000)


@pytest.mark.parametrize("follows", ["level", "nothing"])
def test_a_print_follows_noise_that_grows_softer_and_louder(follows):
    pause = np.zeros((3 * RATE, 1))
    clean = np.concatenate([np.concatenate([0.3 * faultless(1.0, seed=7), pause])] * 12)
    at = np.arange(len(clean)) / RATE
    drift_db = np.interp(at, [0, 12, 48], [0, 0, 8])[:, np.newaxis]
    noisy = clean + 0.004 * 10 ** (drift_db / 20) * rng(6).standard_normal(clean.shape)
    made, step = treated(noisy, "denoise", print=f"{2 * RATE}-{4 * RATE}", reduction_db=15, follows=follows)
    expected = np.interp(at[:: 5 * RATE], [0, 12, 48], [0, 0, 8]).tolist()
    assert step.profile["drift_db"][: len(expected)] == pytest.approx(expected, abs=2)
    loud = slice(round(42 * RATE), round(43.9 * RATE))
    fallen_db = 10 * np.log10(np.square(made[loud]).mean() / np.square(noisy[loud]).mean())
    assert fallen_db < -13 if follows == "level" else fallen_db > -10


def test_a_held_chord_is_no_noise_that_has_grown():
    sound = np.concatenate([0.001 * rng(1).standard_normal((2 * RATE, 1)), 0.3 * chord(20.0)])
    sound += 0.001 * rng(2).standard_normal(sound.shape)
    _, step = treated(sound, "denoise", print=f"0-{2 * RATE}")
    assert max(map(abs, step.profile["drift_db"]), default=0) < 1


def test_hum_is_learned_from_a_selection_of_it():
    frames = 16 * RATE
    hz = 61.7 + 0.02 * np.sin(np.arange(frames) / RATE)
    loud = np.concatenate([np.zeros((4 * RATE, 1)), 0.4 * faultless(12.0)])
    sound = loud + hum(hz)
    with pytest.raises(ParameterError, match="no steady hum"):
        treated(sound, "dehum")
    made, step = treated(sound, "dehum", fundamental_hz=61.7, print=f"0-{4 * RATE}")
    assert np.median(step.profile["hz"]) == pytest.approx(61.7, abs=0.05)
    assert ratio_db(made, loud) > ratio_db(sound, loud) + 10
    with pytest.raises(ParameterError, match="beyond the end"):
        treated(sound, "dehum", print=f"0-{frames + 1}")


def test_noise_is_let_through_before_a_sound_and_lowered_gently_after_it():
    sound = np.zeros((6 * RATE, 1))
    sound[2 * RATE : 4 * RATE] = 0.3 * chord(2.0)
    noisy = sound + 0.003 * rng(9).standard_normal(sound.shape)
    settings = {"print": f"0-{RATE}", "reduction_db": 20}
    plain, _ = treated(noisy, "denoise", **settings)
    gentle, _ = treated(noisy, "denoise", **settings, attack_ms=400, release_ms=800)

    def level_db(made, start, stop):
        return 10 * np.log10(np.square(made[round(start * RATE) : round(stop * RATE)]).mean())

    for start, stop in ((1.75, 1.95), (4.1, 4.4)):
        assert level_db(gentle, start, stop) > level_db(plain, start, stop) + 3
    for start, stop in ((0.2, 1.3), (5.2, 5.9)):
        assert level_db(gentle, start, stop) == pytest.approx(level_db(plain, start, stop), abs=0.3)
