"""Declick, decrackle, bridge and collapse: what they rebuild, and what they leave alone."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, chord, faultless, rng, voice
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.cutting.joins import joins
from umbrick.core.mend.filling import bridge
from umbrick.core.mend.impulses import declick
from umbrick.core.mend.method import Excerpt, Rebuilding
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import applied
from umbrick.core.mend.registry import METHODS
from umbrick.core.mend.remedies import remedies
from umbrick.core.model.damage_extent import extent
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

AT = RATE


def opened(sound):
    return Version.of(ArraySource(sound.astype(np.float32), RATE, "s"))


def heard(version):
    return version.read(0, version.frames).astype(np.float64)


def ratio_db(truth, made, span):
    return 10 * np.log10((truth[span] ** 2).sum() / ((truth - made)[span] ** 2).sum())


def ticked(sound, length, at=AT, size=0.6):
    noisy = sound.copy()
    burst = rng(3).standard_normal(length) * np.exp(-3 * np.arange(length) / length)
    noisy[at : at + length] += (size * burst / np.abs(burst).max())[:, np.newaxis]
    return noisy


@pytest.mark.parametrize("make", [voice, chord])
@pytest.mark.parametrize("length", [1, 7, 60])
def test_damage_is_followed_to_where_it_ends(make, length):
    noisy = ticked(make(2.0), length)[:, 0].astype(np.float32).astype(np.float64)
    start, stop, _ = extent(noisy, AT, AT + max(1, length // 3), RATE)
    assert abs(start - AT) <= 1
    assert AT + length // 2 <= stop <= AT + length + 1


def test_one_wrong_sample_is_one_changed_sample():
    truth = chord(2.0)
    noisy = ticked(truth, 1)
    mended = heard(apply_method(opened(noisy), METHODS["declick"], {}, [Place(AT - 4, AT + 6, (0,))]).version)
    assert np.flatnonzero((mended != noisy.astype(np.float32)).any(axis=1)).tolist() == [AT]
    assert abs(mended[AT, 0] - truth[AT, 0]) < 0.6 * 10 ** (-30 / 20)


def test_a_click_is_mended_beyond_the_place_but_nothing_else():
    truth = np.hstack([voice(2.0, noise=0.0005), voice(2.0, seed=1)])
    noisy = truth.copy()
    noisy[:, :1] = ticked(truth[:, :1], 60)
    done = apply_method(opened(noisy), METHODS["declick"], {}, [Place(AT, AT + 10, (0,), ("f",))])
    mended = heard(done.version)
    assert ratio_db(truth, mended, slice(AT, AT + 60)) > ratio_db(truth, noisy, slice(AT, AT + 60)) + 8
    changed = np.flatnonzero((mended != noisy.astype(np.float32)).any(axis=1))
    assert changed.min() >= AT - 1
    assert changed.max() <= AT + 60
    assert np.array_equal(mended[:, 1], noisy[:, 1].astype(np.float32))
    assert done.mends[0].stop > AT + 10
    assert done.mends[0].finding_ids == ("f",)


def thumping(sound, at=AT, hertz=28.0, size=0.5):
    """A click of a millisecond, and a swing that glides and dies away after it."""
    noisy = ticked(sound, 48, at, 0.9)
    t = np.arange(round(0.4 * RATE)) / RATE
    swing = np.exp(-t / 0.06) * np.sin(2 * np.pi * hertz * (1 - 0.2 * t) * t + 0.4)
    swing += 0.3 * np.exp(-t / 0.02) * np.cos(2 * np.pi * 2.3 * hertz * t)
    noisy[at : at + len(t)] += size * swing[:, np.newaxis]
    return noisy


@pytest.mark.parametrize("make", [voice, chord])
def test_a_big_click_goes_with_its_thump_and_nothing_else_changes(make):
    truth = np.repeat(0.6 * make(2.5), 2, axis=1)
    noisy = truth.copy()
    noisy[:, 1] = thumping(truth[:, 1:])[:, 0]
    version = opened(noisy)
    done = apply_method(version, METHODS["dethump"], {}, [Place(AT, AT + 48, (1,))])
    after, tail = slice(AT, AT + RATE // 2), heard(done.version)
    declicked = heard(apply_method(version, METHODS["declick"], {}, [Place(AT, AT + 48, (1,))]).version)
    assert ratio_db(truth, tail, after) > ratio_db(truth, declicked, after) + 8
    assert np.array_equal(tail[:, 0], heard(version)[:, 0])
    reach = round((0.5 + declick.REACH_SECONDS) * RATE)
    for outside in (slice(0, AT - RATE // 250), slice(AT + 48 + reach, None)):
        assert np.array_equal(tail[outside], heard(version)[outside])
    assert done.mends[0].seam_score > 0.3
    natures = {piece.source.nature for piece, _ in done.version.pieces(AT, AT + RATE // 4)}
    assert natures == {Nature.REBUILT, Nature.FILTERED}
    left = apply_method(
        opened(declicked), METHODS["dethump"], {"click": "leave"}, [Place(AT + 40, AT + 48, (1,))]
    ).version
    assert ratio_db(truth, heard(left), after) > ratio_db(truth, declicked, after) + 6


@pytest.mark.parametrize("sound", [voice(2.5), ticked(chord(2.5), 20)], ids=["voice", "click without"])
def test_where_no_thump_follows_none_is_taken_out(sound):
    with pytest.raises(ParameterError, match="No thump was found"):
        apply_method(opened(sound), METHODS["dethump"], {}, [Place(AT, AT + 20, (0,))])


def test_over_a_whole_recording_clicks_are_looked_for():
    truth = voice(5.0)
    noisy = ticked(ticked(truth, 20, RATE), 5, 3 * RATE)
    mended = heard(apply_method(opened(noisy), METHODS["declick"], {}, [Place(0, len(truth), (0,))]).version)
    whole = slice(0, len(truth))
    assert ratio_db(truth, mended, whole) > ratio_db(truth, noisy, whole) + 10
    untouched = apply_method(opened(truth), METHODS["declick"], {}, [Place(0, len(truth), (0,))])
    assert not len(untouched.change)


def test_crackle_goes_and_clean_sound_stays():
    truth = voice(2.0, noise=0.003)
    noisy = truth.copy()
    random = rng(5)
    for at in random.integers(RATE // 2, RATE, 30):
        noisy[at : at + 2, 0] += (0.15, -0.1)
    place = Place(RATE // 2, RATE, (0,))
    span = slice(place.start, place.stop)
    mended = heard(apply_method(opened(noisy), METHODS["decrackle"], {}, [place]).version)
    assert ratio_db(truth, mended, span) > ratio_db(truth, noisy, span) + 10
    clean = heard(apply_method(opened(truth), METHODS["decrackle"], {}, [place]).version)
    assert ratio_db(truth, clean + 1e-12, span) > 60


@pytest.mark.parametrize("level", [0.0, 1e-4])
def test_ticks_in_a_pause_leave_the_pause(level):
    generator = rng(3)
    pause = level * generator.standard_normal((RATE, 1))
    noisy = pause.copy()
    for at in generator.integers(2000, RATE - 2000, 60):
        noisy[at : at + 8, 0] += 0.2 * generator.standard_normal(8)
    made = heard(apply_method(opened(noisy), METHODS["decrackle"], {}, [Place(0, RATE, (0,))]).version)
    assert np.abs(made - pause).max() < max(6 * level, 1e-6)


@pytest.mark.parametrize("first", range(RATE // 3, RATE // 2, 1111))
def test_a_sound_that_begins_and_ends_in_its_midst_has_no_crackle_there(first):
    sound = chord(2.0)[first : first + RATE]
    made = heard(apply_method(opened(sound), METHODS["decrackle"], {}, [Place(0, RATE, (0,))]).version)
    assert np.array_equal(made, sound.astype(np.float32))


@pytest.mark.parametrize("milliseconds", [1, 10, 40])
def test_a_gap_is_bridged_near_to_the_truth_and_as_loud(milliseconds):
    truth = chord(3.0)
    gap = slice(RATE, RATE + RATE * milliseconds // 1000)
    holed = truth.copy()
    holed[gap] = 0
    for using in ("prediction", "auto"):
        place = Place(gap.start, gap.stop, (0,))
        mended = heard(apply_method(opened(holed), METHODS["bridge"], {"using": using}, [place]).version)
        assert ratio_db(truth, mended, gap) > 10
        assert abs(10 * np.log10((mended[gap] ** 2).sum() / (truth[gap] ** 2).sum())) < 2
        outside = np.ones(len(truth), bool)
        outside[gap] = False
        assert np.array_equal(mended[outside], holed[outside].astype(np.float32))


def test_an_intact_channel_tells_what_was_said():
    noise = np.convolve(rng(1).standard_normal(2 * RATE), np.ones(4) / 4, "same")
    truth = 0.1 * np.stack([noise, np.convolve(noise, [0.2, 0.7, 0.1], "same")], axis=1)
    holed = truth.copy()
    gap = slice(RATE, RATE + 900)
    holed[gap, 0] = 0
    mended = heard(apply_method(opened(holed), METHODS["bridge"], {}, [Place(gap.start, gap.stop, (0,))]).version)
    assert ratio_db(truth[:, :1], mended[:, :1], gap) > 12


def test_a_bridge_crossfades_only_as_far_as_it_says():
    sound = voice(2.0)
    sound[AT : AT + 100] = 0
    place = Place(AT, AT + 100, (0,))
    mended = heard(apply_method(opened(sound), METHODS["bridge"], {"crossfade_ms": 2}, [place]).version)
    changed = np.flatnonzero((mended != sound.astype(np.float32)).any(axis=1))
    fade = round(0.002 * RATE)
    assert AT - fade <= changed.min() < AT
    assert AT + 100 <= changed.max() < AT + 100 + fade


def test_a_gap_too_long_to_bridge_says_what_else_there_is():
    with pytest.raises(ParameterError, match="up to 300 ms"):
        apply_method(opened(voice(2.0)), METHODS["bridge"], {}, [Place(0, RATE, (0,))])


@settings(max_examples=25, deadline=None)
@given(
    start=st.integers(0, 999),
    length=st.integers(1, 1000),
    name=st.sampled_from(["declick", "decrackle", "bridge"]),
    silent=st.booleans(),
)
def test_any_place_of_any_sound_is_mended_twice_alike_and_finitely(start, length, name, silent):
    sound = np.zeros((1000, 2)) if silent else 0.1 * rng(start).standard_normal((1000, 2))
    version = opened(sound)
    place = Place(start, min(1000, start + length), (1,))
    one, two = (heard(apply_method(version, METHODS[name], {}, [place]).version) for _ in range(2))
    assert np.array_equal(one, two)
    assert np.isfinite(one).all()
    assert np.array_equal(one[:, 0], heard(version)[:, 0])
    does = METHODS[name].does
    assert isinstance(does, Rebuilding)
    reach = round(does.reach(METHODS[name].checked({})) * RATE)
    before, after = slice(0, max(0, place.start - reach)), slice(place.stop + reach, None)
    assert np.array_equal(one[before], heard(version)[before])
    assert np.array_equal(one[after], heard(version)[after])


@pytest.mark.parametrize("module", [declick, bridge])
def test_mending_can_be_stopped(module):
    mask = np.zeros((RATE, 1), bool)
    mask[5000:5010] = True
    with pytest.raises(CancelledError):
        module.rebuild(Excerpt(voice(1.0).astype(np.float32), RATE, mask, mask), {}, lambda: True)


@pytest.mark.parametrize("times", [1, 2])
def test_what_comes_again_is_taken_out_to_the_sample(times):
    truth = voice(3.0)
    block = truth[AT - 3000 : AT]
    stuck = np.concatenate([truth[:AT], *[block] * times, truth[AT:]])
    place = Place(AT, AT + times * 3000, (0,))
    done = apply_method(opened(stuck), METHODS["collapse"], {}, [place])
    assert done.mends[0].time_shift == -times * 3000
    assert np.allclose(heard(done.version), truth, atol=1e-4)


@pytest.mark.parametrize("left", [0.3, 0.8])
def test_a_held_cycle_goes_with_both_edges_at_which_it_broke(left):
    truth = voice(3.0, noise=0.0005)
    cycle = round(RATE / (120 + 25 * np.sin(2 * np.pi * 0.7)))
    held = np.tile(truth[AT - cycle : AT], (12, 1))[: 11 * cycle + cycle // 3]
    stuck = np.concatenate([truth[:AT], held * np.linspace(1, left, len(held))[:, np.newaxis], truth[AT:]])
    mended = heard(apply_method(opened(stuck), METHODS["collapse"], {}, [Place(AT, AT + len(held), (0,))]).version)
    removed = len(stuck) - len(mended)
    assert abs(removed - len(held)) <= RATE // 1000
    behind = AT + RATE // 50
    assert np.array_equal(mended[behind:], stuck[behind + removed :].astype(np.float32))
    breaks = [np.abs(np.diff(sound[AT - 500 : behind, 0], 3)).max() for sound in (mended, truth, stuck)]
    assert breaks[0] < 2 * breaks[1] < breaks[2] / 10


def test_a_collapse_can_keep_the_length_or_pay_it_back():
    truth = voice(3.0)
    stuck = np.concatenate([truth[:AT], truth[AT - 3000 : AT], truth[AT:], np.zeros((RATE, 1)), truth])
    place = Place(AT, AT + 3000, (0,))
    kept = apply_method(opened(stuck), METHODS["collapse"], {"time": "keep"}, [place]).version
    assert kept.frames == len(stuck)
    assert np.array_equal(heard(kept)[: place.start], stuck[: place.start].astype(np.float32))
    paid = apply_method(opened(stuck), METHODS["collapse"], {"time": "payback"}, [place]).version
    assert paid.frames == len(stuck)
    assert np.allclose(heard(paid)[AT + 600 : AT + 9000], truth[AT + 600 : AT + 9000], atol=1e-4)


def test_what_was_said_anew_was_not_held():
    pause = 0.001 * rng(1).standard_normal((RATE // 4, 1))
    said = np.concatenate([part for seed in range(4) for part in (faultless(0.5, seed=seed), pause)])
    again = Place(RATE * 5 // 8, RATE * 11 // 8, (0,))
    assert not joins(opened(said), again)[0].is_held
    stuck = np.concatenate(
        [said[: RATE // 4], np.tile(said[RATE // 4 - 400 : RATE // 4], (8, 1)), said[RATE // 4 + 100 :]]
    )
    assert joins(opened(stuck), Place(RATE // 4, RATE // 4 + 3200, (0,)))[0].is_held


def test_more_or_less_can_be_taken_out():
    version = opened(voice(3.0))
    place = Place(AT, AT + 2500, (0,))
    found = joins(version, place)
    assert len({join.removed for join in found}) == len(found) > 1
    for join in found:
        removed_ms = 1000 * join.removed / RATE
        done = apply_method(version, METHODS["collapse"], {"removed_ms": removed_ms}, [place])
        assert abs(done.mends[0].time_shift + join.removed) <= RATE // 3000


def test_nothing_would_be_left():
    with pytest.raises(ParameterError, match="Nothing would be left"):
        apply_method(opened(voice(1.0)), METHODS["collapse"], {}, [Place(0, RATE, (0,))])


def test_a_hole_in_a_pause_is_filled_with_room_tone():
    phrase = np.concatenate([0.3 * faultless(1.5, seed=2), np.zeros((2 * RATE, 1))])
    sound = np.tile(phrase, (3, 1)) + 0.004 * rng(5).standard_normal((3 * len(phrase), 1))
    start, stop = len(phrase) + round(2.2 * RATE), len(phrase) + round(2.6 * RATE)
    holed = sound.copy()
    holed[start:stop] = 0
    version = Version.of(ArraySource(holed, RATE, "holed"))
    finding = Finding("f", "dropout", start, stop, (0,), 1.0, 1.0, "")
    offered = remedies(finding, version)
    tone = next(remedy for remedy in offered if remedy.title == "Room tone")
    made = applied(version, tone, [finding], lambda: False).version
    level_db = 20 * np.log10(made.read(start, stop).std() / 0.004)
    assert level_db == pytest.approx(0, abs=1.0)
    assert np.array_equal(made.read(0, start - 500), version.read(0, start - 500))
    in_a_word = Finding("g", "dropout", len(phrase) + RATE // 2, len(phrase) + RATE // 2 + 2000, (0,), 1.0, 1.0, "")
    assert all(remedy.title != "Room tone" for remedy in remedies(in_a_word, version))
