import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, chord, clipped, rng, voice
from umbrick.core.errors import CancelledError
from umbrick.core.mend.declipping import curve, declip, sparse
from umbrick.core.mend.method import Excerpt
from umbrick.core.model.bounds import Bounds
from umbrick.core.model.least_squares import fill

USING = ["curve", "prediction", "sparse", "auto"]


def mend(sound, mask, using, rate=RATE, target=None):
    excerpt = Excerpt(sound.astype(np.float32), rate, mask, mask if target is None else target)
    return declip.rebuild(excerpt, {"rail_dbfs": "auto", "using": using}), excerpt.samples.astype(np.float64)


def gain_db(truth, before, after, mask):
    error_before, error_after = (np.square(truth - sound)[mask].sum() for sound in (before, after))
    return 10 * np.log10(error_before / error_after)


@pytest.mark.parametrize("using", USING)
@pytest.mark.parametrize("share", [0.002, 0.02])
@pytest.mark.parametrize("make", [voice, chord])
def test_rebuilt_peaks_are_nearer_to_the_truth(using, share, make):
    sound, truth, mask = clipped(make(1.0), share)
    rebuilt, before = mend(sound, mask, using)
    least = {"curve": 2.0, "prediction": 5.0, "sparse": 6.0, "auto": 6.0}[using]
    assert gain_db(truth, before, rebuilt, mask) > least


@settings(max_examples=25)
@given(st.integers(1, 600), st.floats(0.0, 1.0), st.integers(1, 3), st.sampled_from(USING), st.integers(0, 9))
def test_laws(frames, share, channels, using, seed):
    """Reliable samples stay bit-identical, rebuilt ones lie at or beyond the rail, at any place and density."""
    random = rng(seed)
    sound = np.cumsum(random.standard_normal((frames, channels)), axis=0)
    sound = (sound / np.abs(sound).max()).astype(np.float32)
    mask = random.random((frames, channels)) < share
    rebuilt, before = mend(sound, mask, using)
    assert np.isfinite(rebuilt).all()
    assert np.array_equal(rebuilt[~mask], before[~mask])
    assert (np.abs(rebuilt[mask]) >= np.abs(before[mask])).all()
    assert (np.sign(rebuilt[mask]) * np.sign(before[mask]) >= 0).all()


@pytest.mark.parametrize("using", USING)
def test_the_same_input_gives_the_same_samples(using):
    sound, _, mask = clipped(voice(0.5), 0.02)
    assert np.array_equal(mend(sound, mask, using)[0], mend(sound, mask, using)[0])


@pytest.mark.parametrize("using", USING)
def test_each_channel_alone_equals_all_at_once(using):
    sound, _, mask = clipped(np.hstack([voice(0.4), chord(0.4)]), 0.02)
    both, _ = mend(sound, mask, using)
    for channel in range(2):
        alone, _ = mend(sound[:, [channel]], mask[:, [channel]], using)
        assert np.array_equal(both[:, [channel]], alone)


@pytest.mark.parametrize("using", USING)
def test_only_the_target_is_rebuilt_though_all_damage_is_known(using):
    sound, _, mask = clipped(voice(0.5), 0.02)
    target = mask & (np.arange(len(mask)) < len(mask) // 2)[:, np.newaxis]
    rebuilt, before = mend(sound, mask, using, target=target)
    assert np.array_equal(rebuilt[~target], before[~target])
    assert (rebuilt[target] != before[target]).any()


@pytest.mark.parametrize("using", USING)
def test_silence_and_a_wholly_clipped_excerpt_come_back(using):
    silence = np.zeros((4000, 1))
    mask = np.zeros((4000, 1), bool)
    mask[100:105] = True
    assert not mend(silence, mask, using)[0].any()
    wall = np.full((50, 1), 0.9)
    rebuilt, before = mend(wall, np.ones((50, 1), bool), using)
    assert np.array_equal(rebuilt, before)


@pytest.mark.parametrize("rate", [8000, 22050, 96000])
def test_other_rates(rate):
    sound, truth, mask = clipped(voice(1.0, rate=rate), 0.01)
    rebuilt, before = mend(sound, mask, "auto", rate)
    assert gain_db(truth, before, rebuilt, mask) > 6


@pytest.mark.parametrize("seed", range(3))
def test_the_noise_of_a_drum_which_nothing_foretells_is_not_made_worse(seed):
    time = np.arange(RATE) / RATE
    snare = rng(seed).standard_normal(RATE) * np.exp(-(time % 0.25) / 0.03)
    body = 0.5 * np.sin(2 * np.pi * 180 * time) * np.exp(-(time % 0.25) / 0.08)
    sound, truth, mask = clipped((snare + body)[:, np.newaxis] / 5, 0.01)
    rebuilt, before = mend(sound, mask, "auto")
    assert gain_db(truth, before, rebuilt, mask) > 0
    predicted, _ = mend(sound, mask, "prediction")
    assert gain_db(truth, before, predicted, mask) < 0


def test_a_given_rail_takes_every_sample_at_or_beyond_it():
    sound, truth, mask = clipped(voice(0.5), 0.01, rail=0.5)
    everywhere = np.ones_like(mask)
    excerpt = Excerpt(sound.astype(np.float32), RATE, np.zeros_like(mask), everywhere)
    rebuilt = declip.rebuild(excerpt, {"rail_dbfs": 20 * np.log10(0.5), "using": "sparse"})
    before = excerpt.samples.astype(np.float64)
    assert np.array_equal(rebuilt != before, mask & (rebuilt != before))
    assert gain_db(truth, before, rebuilt, mask) > 6


def one_side_clipped(likeness):
    """Noise that one channel has clipped, and the other intact, lower and a little later, as far as they are alike."""
    own, common = (rng(seed).standard_normal((RATE, 1)) for seed in (7, 8))
    wave, truth, mask = clipped(0.2 * common, 0.1)
    other = likeness * 0.6 * np.roll(truth, 3, axis=0) + (1 - likeness) * 0.2 * own
    return np.hstack([wave, other]), truth, np.hstack([mask, np.zeros_like(mask)])


def test_a_channel_that_has_the_sound_intact_restores_it():
    sound, truth, mask = one_side_clipped(1.0)
    rebuilt, before = mend(sound, mask, "auto")
    alone, _ = mend(sound[:, :1], mask[:, :1], "auto")
    bad = mask[:, :1]
    assert gain_db(truth, before[:, :1], alone, bad) < 10
    assert gain_db(truth, before[:, :1], rebuilt[:, :1], bad) > 40
    assert np.array_equal(rebuilt[~mask], before[~mask])
    assert (np.abs(rebuilt[mask]) >= np.abs(before[mask])).all()


def test_a_channel_that_holds_another_sound_changes_nothing():
    sound, _, mask = one_side_clipped(0.0)
    alone, _ = mend(sound[:, :1], mask[:, :1], "auto")
    assert np.array_equal(mend(sound, mask, "auto")[0][:, :1], alone)


def test_where_both_channels_are_clipped_neither_helps():
    sound, mask = (part[: RATE // 4] for part in one_side_clipped(1.0)[::2])
    mask[:, 1] = mask[:, 0]
    alone, _ = mend(sound[:, :1], mask[:, :1], "auto")
    assert np.array_equal(mend(sound, mask, "auto")[0][:, :1], alone)


@pytest.mark.parametrize("using", ["prediction", "sparse"])
def test_it_can_be_stopped(using):
    sound, _, mask = clipped(voice(0.5), 0.02)
    excerpt = Excerpt(sound.astype(np.float32), RATE, mask, mask)
    with pytest.raises(CancelledError):
        declip.rebuild(excerpt, {"using": using}, lambda: True)


def test_least_squares_continues_what_a_predictor_predicts_exactly():
    t = np.arange(400)
    wave = np.sin(0.2 * t)
    unknown = np.arange(200, 220)
    damaged = wave.copy()
    damaged[unknown] = 9.0
    free = Bounds(np.where(damaged == 9, -np.inf, damaged), np.where(damaged == 9, np.inf, damaged))
    predictor = np.array([1.0, -2 * np.cos(0.2), 1.0])
    assert np.allclose(fill(damaged, unknown, free, predictor), wave[unknown], atol=1e-5)
    lowest = Bounds(np.where(damaged == 9, 0.5, damaged), free.high)
    assert (fill(damaged, unknown, lowest, predictor) >= 0.5).all()


def test_a_curve_over_one_missing_top_is_close():
    t = np.arange(9030)
    truth = np.sin(0.1 * t)
    mask = truth > 0.95
    wave = np.minimum(truth, 0.95)
    assert np.abs(curve.rebuild(wave, mask) - truth).max() < 0.02
    assert np.abs(sparse.rebuild(wave, mask, RATE) - truth).max() < 0.05
