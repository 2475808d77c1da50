"""Whole jobs of finding and mending, from the opened recording on, within the number of acts they may take."""

import numpy as np
import pytest
import soxr

from tests.core.survey.test_kinds import restarted, speech
from tests.sounds import RATE, faultless, rng, write
from tests.ui.test_hand_jobs import of_demo
from umbrick.core.survey.finding import State
from umbrick.playback.programme import Hearing
from umbrick.ui.dialogs.mend_all_dialog import MendAllDialog

HOLE = slice(4 * RATE, 4 * RATE + 400)


def opened(hands, tmp_path, sound):
    hands.open(write(tmp_path / "job.wav", sound))
    hands.acts = 0


def holed():
    sound = faultless(8.0)
    sound[HOLE] = 0
    return sound


def test_a_hole_locked_to_picture_is_filled_and_heard_in_four_acts(hands, window, tmp_path):
    truth = faultless(8.0)
    opened(hands, tmp_path, holed())
    frames = hands.work.frames
    hands.press("F5")
    hands.press("N")
    hands.press("Space")
    assert window.listening.is_sounding
    hands.press("Return")
    assert hands.acts == 4
    mended = hands.work.version.read(0, hands.work.frames)
    assert hands.work.frames == frames
    error = np.square(mended[HOLE] - truth[HOLE]).sum() / np.square(truth[HOLE]).sum()
    assert error < 0.3
    assert np.array_equal(mended[: HOLE.start], hands.work.history.original.read(0, HOLE.start))


def test_the_same_hole_without_picture_is_closed_in_three_acts(hands, window, tmp_path):
    opened(hands, tmp_path, holed())
    hands.press("F5")
    hands.press("N")
    hands.press("Backspace")
    assert hands.acts == 3
    (mend,) = hands.work.history.mends
    assert mend.time_shift <= -390
    assert mend.seam_score > 0.5
    assert "0 ms" not in window.status.debt.text()


def test_words_that_came_twice_are_taken_out_two_acts_each(hands, window, tmp_path):
    truth = speech(9.0, seed=4)
    cuts = [round(0.12 * RATE) + number * round(0.46 * RATE) + round(0.2 * RATE) for number in (3, 8, 13)]
    block = round(0.06 * RATE)
    parts, last = [], 0
    for cut in cuts:
        parts += [truth[last:cut], truth[cut - block : cut]]
        last = cut
    opened(hands, tmp_path, np.concatenate([*parts, truth[last:]]))
    hands.press("F5")
    hands.press("N")
    hands.acts = 0
    for _ in cuts:
        assert hands.work.focus.kind == "stutter"
        hands.press("Space")
        hands.press("Return")
    assert hands.acts == 2 * len(cuts)
    mended = hands.work.version.read(0, hands.work.frames)
    assert len(mended) == len(truth)
    assert np.abs(mended - truth).max() < 0.01


def test_the_held_syllables_of_the_call_go_and_the_speakers_own_restart_stays(hands, window):
    before, planted = of_demo(hands, "radio-call")
    hands.press("F5")
    held = [fault for fault in planted if fault["kind"] == "stutter"]
    found = hands.work.listing().open_findings("stutter")
    assert len(found) == len(held)
    window.bench.focus(found[0])
    hands.settle()
    hands.in_dialog(lambda dialog: dialog.accept())
    hands.press("Shift+Return")
    (edit,) = hands.work.history.edits
    at = np.array([mend.start for mend in edit.made])
    removed = np.array([-mend.time_shift for mend in edit.made])
    expected = np.array([fault["end"] - fault["start"] for fault in held])
    assert np.abs(at - [fault["start"] for fault in held]).max() < 0.03 * hands.work.rate
    assert np.mean(np.abs(removed - expected) < 0.01 * hands.work.rate) >= 0.9
    assert hands.work.frames == len(before) - removed.sum()
    (restart,) = (fault for fault in planted if fault["kind"] == "restart")
    start = restart["start"] - removed[at < restart["start"]].sum()
    stays = hands.work.version.read(start, start + restart["end"] - restart["start"])
    assert (stays == before[restart["start"] : restart["end"]]).all()


@pytest.fixture
def doubtful(hands, window, tmp_path):
    hands.open(write(tmp_path / "job.wav", soxr.resample(restarted(), RATE, 16000), 16000))
    hands.press("F5")
    window.bench.set_sensitivity("stutter", 0.95)
    hands.settle()
    (finding,) = [f for f in hands.work.listing().open_findings("stutter") if f.detail.get("restart")][:1]
    return finding


def test_an_amount_typed_while_it_plays_holds_for_all_that_follow(hands, window, tmp_path):
    noisy, _ = disc()
    opened(hands, tmp_path, np.concatenate([noisy, noisy]))
    hands.press("F5")
    first, second = hands.work.listing().open_findings("crackle")
    window.bench.focus(first)
    hands.settle()
    hands.press("Space")

    hands.press("Shift+E")
    page = window.treatment.finding
    assert page.settings.isVisible()
    hands.type("1.4\n", page.settings.fields["amount"])
    assert "from 0 to 1" in window.status.message.text()
    hands.type("0.62\n", page.settings.fields["amount"])
    offer = window.mending.offers.current
    assert offer.mended.mends[0].parameters["amount"] == 0.62
    assert "set" in window.treatment.finding.cards[0].accessibleName()
    hands.press("Return")
    window.bench.focus(second)
    hands.settle()
    assert window.mending.offers.current.mended.mends[0].parameters["amount"] == 0.62
    hands.press("2")
    assert window.mending.preferred(hands.work)["crackle"] == "Gentle"
    hands.press("1")
    told = []
    hands.in_dialog(lambda dialog: (told.append(dialog.how.text()), dialog.accept()))
    hands.press("Shift+Return")
    assert "“Usual”" in told[0]
    assert [mend.parameters["amount"] for edit in hands.work.history.edits for mend in edit.made] == [0.62, 0.62]


def test_a_speaker_who_starts_over_is_kept_with_one_key(hands, window, doubtful):
    window.bench.focus(doubtful)
    hands.settle()
    assert "may have started over" in window.treatment.finding.detail.text()
    assert doubtful.confidence <= 0.4
    hands.acts = 0
    hands.press("K")
    assert hands.acts == 1
    assert hands.work.state_of(doubtful) is State.KEPT


def test_mend_all_leaves_what_is_doubtful_unless_it_is_ticked(hands, window, doubtful):
    dialog = MendAllDialog(hands.work, ["stutter"], {}, window.theme, window)
    assert doubtful not in dialog.included()


def test_the_residue_of_declicking_holds_no_music(hands, window, tmp_path):
    truth = speech(9.0, seed=4)
    noisy = truth.copy()
    random = rng(2)
    for at in random.integers(RATE // 2, len(truth) - RATE // 2, 8).tolist():
        noisy[at : at + 3, 0] += random.choice((-0.3, 0.3))
    opened(hands, tmp_path, noisy)
    hands.press("F5")
    hands.press("N")
    assert hands.work.focus.kind == "click"
    hands.in_dialog(lambda dialog: dialog.accept())
    hands.press("Shift+Return")
    hands.press("R")
    assert hands.acts == 4
    assert window.listening.hearing is Hearing.RESIDUE
    residue = hands.work.history.original.read(0, len(truth)) - hands.work.version.read(0, len(truth))
    clicks = noisy - truth
    assert np.square(residue - clicks).sum() < 0.02 * np.square(clicks).sum()


def disc(seconds=8.0):
    """Speech with ticks, and a second of crackle; what was there before them."""
    truth = speech(seconds, seed=4)
    noisy, random = truth.copy(), rng(3)
    for at in range(RATE // 2, 4 * RATE, RATE // 2):
        noisy[at, 0] += random.choice((-0.3, 0.3))
    for at in random.integers(6 * RATE, 7 * RATE, 60).tolist():
        noisy[at : at + 2, 0] += random.normal(0, 0.06)
    return noisy, truth


def test_a_disc_loses_ticks_and_crackle_in_one_decision_with_an_amount_chosen_by_ear(hands, window, tmp_path):
    noisy, truth = disc()
    opened(hands, tmp_path, noisy)
    hands.press("F5")
    (crackle,) = hands.work.listing().open_findings("crackle")
    window.bench.focus(crackle)
    hands.settle()
    hands.press("Space")
    hands.press("2")
    assert window.listening.is_sounding
    told = []
    hands.in_dialog(lambda dialog: (told.append((dialog.how.text(), dialog.count.text())), dialog.accept()))
    hands.press("Ctrl+Shift+Return")
    hands.settle()
    ((how, count),) = told
    assert "Crackle: “Gentle”, as chosen." in how
    assert "crackle and clicks" in count.lower()
    (edit,) = hands.work.history.edits
    assert {mend.method for mend in edit.made} == {"declick", "decrackle"}
    assert all(mend.parameters["amount"] == 0.4 for mend in edit.made if mend.method == "decrackle")
    mended = hands.work.version.read(0, len(truth))
    ticks = slice(0, 5 * RATE)
    assert np.square(mended - truth)[ticks].sum() < 0.02 * np.square(noisy - truth)[ticks].sum()
    untouched = slice(7 * RATE + RATE // 2, len(truth))
    assert np.array_equal(mended[untouched], hands.work.history.original.read(untouched.start, untouched.stop))
    hands.press("Ctrl+Z")
    assert not hands.work.history.mends
