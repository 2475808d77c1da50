"""Several opinions at once: experts on gaps, the consensus on clipping, and the trust band."""

import numpy as np
import pytest
from scipy.signal import butter, sosfiltfilt

from tests.sounds import RATE, chord, clipped, rng, voice
from umbrick.core.mend.declipping import consensus, prediction, sparse
from umbrick.core.mend.filling.experts import Expert, agreed, donated, heard_elsewhere
from umbrick.core.mend.trust import trust_band
from umbrick.core.model.interpolation import interpolated
from umbrick.core.sound.source import ArraySource

GAP = slice(12_000, 12_960)


def error(truth, made):
    return float(np.square(truth[GAP] - made).sum() / np.square(truth[GAP]).sum())


def agree(wave, others):
    return agreed(wave, GAP.start, GAP.stop, 256, 1e-6, [Expert(other) for other in others], RATE)


def noisy_voice():
    return voice(1.0, noise=0.02)[:24_000, 0]


def test_a_good_donor_decides_and_a_poor_one_hardly_counts():
    wave = noisy_voice()
    alone = interpolated(wave, GAP.start, GAP.stop, 256, 3, 1e-6)[0]
    good = wave + 0.0005 * rng(1).standard_normal(len(wave))
    poor = 0.2 * np.convolve(rng(2).standard_normal(len(wave)), np.ones(8) / 8, "same")
    assert error(wave, agree(wave, [good])) < 0.05 * error(wave, alone)
    assert error(wave, agree(wave, [poor])) < 1.3 * error(wave, alone)
    assert error(wave, agree(wave, [poor, good])) < 0.1 * error(wave, alone)


def test_an_expert_that_went_wrong_where_it_was_tried_hardly_counts():
    wave = noisy_voice()
    good = wave + 0.0005 * rng(1).standard_normal(len(wave))
    believed, doubted = (
        error(wave, agreed(wave, GAP.start, GAP.stop, 256, 1e-6, [Expert(good, 1.0, errors)], RATE))
        for errors in ((), (0.1 * rng(2).standard_normal(GAP.stop - GAP.start),))
    )
    assert doubted > 10 * believed


def test_a_donor_that_is_the_sound_itself_is_taken():
    wave = noisy_voice()
    assert np.allclose(agree(wave, [wave.copy()]), wave[GAP])


def test_donors_are_levelled_and_hold_no_damage():
    sound = np.tile(chord(1.0), (4, 1))
    damage = np.zeros(len(sound), bool)
    damage[3 * RATE : 3 * RATE + 500] = True
    laid = donated(sound, RATE, RATE + 400, [0], damage, RATE, 1000)
    assert laid
    for other in laid:
        assert other.shape == (2400, 1)
        assert np.abs(other[:, 0] - sound[RATE - 1000 : RATE + 1400, 0]).max() < 0.9


def test_another_channel_is_filtered_to_be_like_this_one():
    other = rng(3).standard_normal(6000)
    wave = 0.4 * np.roll(other, 3) - 0.1 * other
    outside = np.ones(6000, bool)
    outside[2000:3000] = False
    heard = heard_elsewhere(wave, other, outside)
    assert np.allclose(heard[2000:3000], wave[2000:3000], atol=0.02)


@pytest.mark.parametrize("make", [voice, chord])
def test_the_consensus_keeps_the_rails_and_is_better_than_the_worst_of_its_parts(make):
    sound, truth, mask = clipped(make(0.7), 0.2)
    wave, bad, right = sound[:, 0], mask[:, 0], truth[:, 0]
    made = consensus.rebuild(wave, bad, RATE)
    assert np.array_equal(made[~bad], wave[~bad])
    assert (np.abs(made[bad]) >= np.abs(wave[bad]) - 1e-12).all()
    parts = [prediction.rebuild(wave, bad), sparse.rebuild(wave, bad, RATE)]
    errors = [np.square(part - right)[bad].sum() for part in parts]
    assert np.square(made - right)[bad].sum() < max(errors)


def test_a_little_clipping_is_left_to_prediction():
    sound, _, mask = clipped(voice(1.0), 0.002)
    wave, bad = sound[:, 0], mask[:, 0]
    assert np.array_equal(consensus.rebuild(wave, bad, RATE), prediction.rebuild(wave, bad))


def test_a_sound_without_highs_is_found_exactly():
    """Where a sound has no highs, the samples that are left determine those that are lost."""
    no_highs = sosfiltfilt(butter(12, 6000, "low", fs=RATE, output="sos"), rng(6).standard_normal(RATE))
    sound, truth, mask = clipped(0.3 * no_highs[:, np.newaxis] / no_highs.std(), 0.02)
    wave, bad = sound[:, 0], mask[:, 0]
    made = consensus.rebuild(wave, bad, RATE)
    assert np.square(made - truth[:, 0])[bad].sum() < 1e-5 * np.square(wave - truth[:, 0])[bad].sum()


@pytest.mark.parametrize("lasting", [False, True])
def test_what_lies_far_apart_is_rebuilt_as_if_alone(lasting):
    sound, _, mask = clipped(voice(1.5), 0.05)
    wave, bad = sound[:, 0], mask[:, 0].copy()
    bad[RATE // 2 : RATE] = False
    first = np.where(np.arange(len(bad)) < RATE // 2, bad, False)
    both, alone = (sparse.rebuild(wave, which, RATE, lasting=lasting) for which in (bad, first))
    assert first.any()
    assert (bad & ~first).any()
    assert np.array_equal(both[: RATE // 2], alone[: RATE // 2])


def test_steady_sounds_and_others_are_weighed_differently():
    for make in (chord, voice):
        sound, truth, mask = clipped(make(0.7), 0.2)
        wave, bad, right = sound[:, 0], mask[:, 0], truth[:, 0]
        alone = np.square(sparse.rebuild(wave, bad, RATE) - right)[bad].sum()
        assert np.square(consensus.rebuild(wave, bad, RATE) - right)[bad].sum() < alone


def test_the_band_is_narrow_where_the_sound_is_known_and_open_where_it_is_not():
    tones, hiss = chord(1.0), 0.1 * rng(4).standard_normal((RATE, 1))
    known, unknown = (
        trust_band(ArraySource(sound.astype(np.float32), RATE, "s"), 20_000, 20_960, 0) for sound in (tones, hiss)
    )
    assert known.start == unknown.start == 20_000
    assert len(known.deviation) == 960
    assert known.doubt_db < unknown.doubt_db - 8
    assert unknown.is_open(RATE)
    assert not known.is_open(RATE)


def test_nothing_is_said_of_silence_or_of_a_very_long_stretch():
    silence = ArraySource(np.zeros((RATE, 1), np.float32), RATE, "s")
    assert trust_band(silence, 100, 200, 0) is None
    assert trust_band(ArraySource(chord(1.0).astype(np.float32), RATE, "s"), 0, RATE // 2, 0) is None
