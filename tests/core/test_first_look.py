"""A first look: what is proposed, heard and done."""

import itertools
import json

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.published import faults_of
from tests.sounds import RATE, faultless, rng, voice
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.rehearsal import rehearse_noise
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import ParameterError
from umbrick.core.first_look.document import document
from umbrick.core.first_look.doing import done
from umbrick.core.first_look.draft import first_look
from umbrick.core.first_look.hearing import heard
from umbrick.core.first_look.moments import representative
from umbrick.core.measure.loudness_line import loudness_line
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.history import History
from umbrick.core.timeline.version import Version


def looked_at(sound, rate=RATE):
    version = Version.of(ArraySource(sound, rate, "looked at"))
    survey = Surveyor(version, 24, list(KINDS.values())).run()
    findings = survey.sifted({})
    ground = Ground(version, version, Tiles())
    return ground, findings, first_look(ground, (), findings, survey.levels.peak)


def speech(seconds=12.0):
    """Phrases of a voice with pauses of two seconds."""
    phrase = np.concatenate([0.3 * faultless(2.0, seed=4), np.zeros((2 * RATE, 1))])
    return np.tile(phrase, (round(seconds / 4), 1))


@pytest.fixture(scope="module")
def hurt():
    """A voice with hum, hiss and clicks, and its first look."""
    sound = speech()
    at = np.arange(len(sound)) / RATE
    hum = sum(0.01 / number * np.sin(2 * np.pi * 50 * number * at) for number in (1, 2, 3))
    sound = sound + hum[:, np.newaxis] + 0.003 * rng(7).standard_normal(sound.shape)
    for start in (30_000, 222_222, 431_000, 512_345):
        sound[start : start + 3] += 0.5
    return looked_at(sound)


def numbers_of(look, *titles):
    return [one for one in look.proposals if one.title in titles]


def test_for_a_clean_recording_nothing_is_proposed():
    _, _, look = looked_at(speech())
    assert not look.advised


def test_what_is_wrong_is_proposed_in_order_with_reasons_and_effects(hurt):
    _, _, look = hurt
    advised = [look.proposals[number].title for number in sorted(look.advised)]
    assert [title for title in advised if title in ("Take out hum", "Take out clicks", "Lower noise")] == [
        "Take out hum",
        "Take out clicks",
        "Lower noise",
    ]
    assert all(one.reason for one in look.proposals)
    assert all(one.expected for one in look.proposals if one.is_advised)
    (clicks,) = numbers_of(look, "Take out clicks")
    assert "4 places" in clicks.reason
    assert "none found again" in clicks.expected or "not found again" in clicks.expected


def test_what_a_gate_has_emptied_is_no_quiet_moment():
    frames = RATE * 7 // 10
    response = 0.03 * rng(8).standard_normal(frames) * 10 ** (-3 * np.arange(frames) / frames)
    response[0] = 1
    dry = speech(16.0)
    sound = scipy.signal.fftconvolve(dry[:, 0], response)[: len(dry), np.newaxis]
    sound += 3e-4 * rng(9).standard_normal(sound.shape)
    for pause in range(3 * RATE, len(sound), 4 * RATE):
        sound[pause : pause + RATE] = 0
    _, _, look = looked_at(sound)
    (room,) = numbers_of(look, "Lower the room")
    assert "quiet moments −" in room.expected


def test_moments_are_heard_as_they_would_be(hurt):
    ground, findings, look = hurt
    dry = heard([], look.moments, ground, (), findings)
    for moment, sound in zip(look.moments, dry, strict=True):
        whole = ground.version.read(moment.start, moment.stop)
        assert np.array_equal(sound[1000:-1000], whole[1000:-1000])
    pauses = [np.arange(moment.start, moment.stop) % (4 * RATE) > 2 * RATE for moment in look.moments]
    wet = heard(numbers_of(look, "Take out hum", "Lower noise"), look.moments, ground, (), findings)
    quiet = [np.square(one[where]).sum() for one, where in zip(wet, pauses, strict=True)]
    assert sum(quiet) < 0.2 * sum(np.square(one[where]).sum() for one, where in zip(dry, pauses, strict=True))
    mended = heard(numbers_of(look, "Take out clicks"), look.moments, ground, (), findings)
    assert np.abs(mended[0]).max() < np.abs(dry[0]).max()


def test_what_is_done_is_one_step_that_undo_takes_back(hurt):
    ground, findings, look = hurt
    chosen = numbers_of(look, "Take out hum", "Take out clicks", "Lower noise")
    made = done(chosen, ground, (), findings)
    assert [step.method for step in made.course] == ["dehum", "denoise"]
    assert len(made.mended.mends) == 4
    history = History(ground.version)
    history.push(made.edit(), made.version)
    assert history.course == made.course
    assert len(history.edits) == 1
    history.undo()
    assert history.course == ()
    assert history.current.key == ground.version.key


def test_a_first_look_is_written_as_a_regimen(hurt):
    _, _, look = hurt
    told = json.loads(json.dumps(document("tide tables", look), allow_nan=False))
    assert faults_of(told, "umbrick.regimen/1") == []
    assert told["schema"] == "umbrick.regimen/1"
    wheres = {step["method"]: step["where"] for step in told["steps"]}
    assert wheres["dehum"] == "all"
    assert wheres["declick"] == "findings:click"
    for step in told["steps"]:
        assert step["reason"]
        METHODS[step["method"]].checked(step["set"])


@settings(max_examples=30, deadline=None)
@given(levels=st.lists(st.floats(-90, 0), min_size=1, max_size=900), silent=st.booleans())
def test_moments_lie_in_the_recording_and_apart(levels, silent):
    line = np.array(levels, np.float32)
    if silent:
        line[: len(line) // 2] = -200
    rate, frames = 1000, 50 * len(line)
    moments = representative(line, [], frames, rate)
    spans = sorted((moment.start, moment.stop) for moment in moments)
    assert all(0 <= start < stop <= frames for start, stop in spans)
    assert all(stop <= start for (_, stop), (start, _) in itertools.pairwise(spans))


def test_a_rehearsal_of_noise_gains_and_needs_a_pause():
    noisy = speech() + 0.004 * rng(3).standard_normal((12 * RATE, 1))
    version = Version.of(ArraySource(noisy, RATE, "noisy"))
    ground = Ground(version, version, Tiles())
    step = learned(ground, (), new_step(METHODS["denoise"], {}, (0,), None, ()))
    rehearsal = rehearse_noise(version, step, loudness_line(version, 0, version.frames))
    assert 6 <= rehearsal.advised.reduction_db <= 25
    assert rehearsal.advised.gain_db > 2
    held = Version.of(ArraySource(voice(6.0), RATE, "held"))
    with pytest.raises(ParameterError, match=r"no pause|nothing clear"):
        rehearse_noise(held, step, loudness_line(held, 0, held.frames))
