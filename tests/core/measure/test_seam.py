import numpy as np
import pytest

from tests.sounds import RATE, chord, rng, voice
from umbrick.core.measure.seam import seam_scores
from umbrick.core.model.interpolation import interpolated

SOUND = voice(0.5)


def score(samples, start, stop, channel=0):
    made = np.zeros(samples.shape, bool)
    made[start:stop, channel] = True
    return seam_scores(samples, made, np.array([start]), np.array([stop]), RATE)[0]


def test_sound_that_was_not_changed_at_all_scores_high():
    scores = [score(SOUND, start, start + 20) for start in range(1000, 20_000, 500)]
    assert np.mean(scores) > 0.7


@pytest.mark.parametrize("jump", [0.05, 0.3])
def test_a_jump_at_either_edge_scores_low(jump):
    for at in (slice(5000, 5020), slice(5000, 5010), slice(5010, 5020)):
        sound = SOUND.copy()
        sound[at] += jump
        assert score(sound, 5000, 5020) < score(SOUND, 5000, 5020) - 0.15


def test_a_bend_that_keeps_the_level_scores_less_than_a_smooth_curve():
    bent, smooth = SOUND.copy(), SOUND.copy()
    t = np.linspace(-1, 1, 42)[1:-1, np.newaxis]
    bent[5000:5040] += 0.1 * (1 - np.abs(t))
    smooth[5000:5040] += 0.1 * (1 - t**2) ** 3
    assert score(bent, 5000, 5040) < score(smooth, 5000, 5040)


@pytest.mark.parametrize("make", [voice, chord])
@pytest.mark.parametrize("length", [480, 1500])
def test_a_good_filling_scores_best_and_silence_worst(make, length):
    sound = make(2.0)
    span = slice(20_000, 20_000 + length)
    good = interpolated(sound[:, 0], span.start, span.stop, 256, 2)[0]
    noise = 0.1 * rng(1).standard_normal(length)
    scores = []
    for filling in (good, 0.5 * good, 1.6 * good, good + noise, 0 * good):
        made = sound.copy()
        made[span, 0] = filling
        scores.append(score(made, span.start, span.stop))
    assert int(np.argmax(scores)) == 0
    assert int(np.argmin(scores)) == 4


def test_other_channels_and_too_little_sound_do_not_count():
    both = np.hstack([SOUND, SOUND])
    both[5000:5020, 1] += 0.3
    assert score(both, 5000, 5020, channel=0) == score(SOUND, 5000, 5020)
    assert score(both, 5000, 5020, channel=1) < 0.5
    assert score(SOUND[:3], 1, 2) == 1.0
