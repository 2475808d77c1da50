"""Damage so faint that a rebuild might do worse: it is rebuilt no further than it reaches, or left."""

import numpy as np
import pytest

from tests.sounds import RATE, voice
from umbrick.core.errors import ParameterError
from umbrick.core.mend.plan import applied, carried_out, planned
from umbrick.core.mend.remedies import first_remedy, remedies
from umbrick.core.model.worth import expected_gain_db
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version

AT = RATE


def opened(sound):
    return Version.of(ArraySource(sound.astype(np.float32), RATE, "s"))


def finding(kind, start, length, number=1):
    return Finding(f"f{number}", kind, start, start + length, (0,), 0.5, 0.9, "")


def never():
    return False


@pytest.mark.parametrize("height", [0.02, -0.2])
def test_a_tick_that_is_listed_as_a_break_is_rebuilt_just_as_far_as_it_reaches(height):
    truth = voice(2.0)
    sound = truth.copy()
    sound[AT : AT + 6] += height
    version, listed = opened(sound), finding("discontinuity", AT + 2, 1)
    remedy = first_remedy(listed, version)
    assert remedy.method.name == "declick"
    made = applied(version, remedy, [], never).version.read(0, len(sound))
    assert np.square(made - truth).sum() < 0.1 * np.square(sound - truth).sum()
    assert np.flatnonzero((made != version.read(0, len(sound)))[:, 0]).size < 20


def test_a_break_is_bridged():
    sound = voice(2.0)
    sound[AT:] *= -1
    assert first_remedy(finding("discontinuity", AT, 1), opened(sound)).method.name == "bridge"


def test_what_no_rebuild_would_better_is_left_and_says_why():
    truth = voice(2.0)
    version = opened(truth)
    natural, tick = finding("click", AT, 40), finding("click", AT + RATE // 2, 2, 2)
    with pytest.raises(ParameterError, match="Better left"):
        applied(version, first_remedy(natural, version), [], never)
    sound = truth.copy()
    sound[tick.start : tick.stop] += 0.5
    version = opened(sound)
    done = carried_out(version, planned([natural, tick], version), [])
    assert [mend.finding_ids for mend in done.mended.mends] == [(tick.id,)]
    assert [refused.place.finding_ids for refused in done.refused] == [(natural.id,)]
    assert "Better left" in str(done.refused[0].why)
    # Who wants it rebuilt all the same, can have that.
    by_hand = next(remedy for remedy in remedies(natural, version) if remedy.title == "Just what was found")
    assert applied(version, by_hand, [], never).mends


def test_the_gain_to_expect_grows_with_the_damage():
    wave = voice(1.0)[:, 0]
    filled = wave[5000:5040].copy()
    gains = []
    for height in (0.001, 0.01, 0.1):
        faulty = wave.copy()
        faulty[5000:5040] += height
        gains.append(expected_gain_db(faulty, 5000, 5040, filled, RATE))
    assert np.allclose(np.diff(gains), 20, atol=0.1)
    assert expected_gain_db(np.zeros(4000), 2000, 2010, np.zeros(10), RATE) == 0.0
