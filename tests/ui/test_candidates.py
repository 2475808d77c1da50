"""Candidates for many kinds of fault, for a selection, and the rehearsal that orders them."""

import numpy as np
import pytest
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from tests.core.survey.test_concealment import LINE_RATE, over_a_line
from tests.sounds import RATE, bent, faultless, voice, write
from umbrick.core.survey.finding import State
from umbrick.ui.bench.mending import Refusal
from umbrick.ui.dialogs.rehearsal_dialog import RehearsalDialog
from umbrick.work.selection import Selection

HOLE = slice(4 * RATE, 4 * RATE + 480)


@pytest.fixture
def holed(hands, tmp_path):
    sound = faultless(8.0)
    sound[HOLE] = 0
    hands.open(write(tmp_path / "holed.wav", sound))
    hands.press("F5")
    return hands


def visible_cards(window):
    return [card for card in window.treatment.finding.cards if card.isVisible()]


def test_a_hole_is_filled_in_two_presses_and_the_length_stays(holed, window):
    holed.press("N")
    assert holed.work.focus.kind == "dropout"
    cards = visible_cards(window)
    assert len(cards) == 5
    assert all("0." in card.accessibleName() or "1.00" in card.accessibleName() for card in cards)
    assert "Time: unchanged." in window.treatment.finding.effect.text()
    frames = holed.work.frames
    holed.press("Return")
    assert holed.work.frames == frames
    mend = holed.work.history.mends[0]
    assert (mend.method, mend.seam_score is not None) == ("bridge", True)
    assert np.square(holed.work.version.read(HOLE.start, HOLE.stop)).mean() > 1e-3


def test_closing_up_is_one_of_them_and_tells_the_shift(holed, window):
    holed.press("N")
    holed.press("5")
    assert "shorter" in window.treatment.finding.effect.text()
    frames = holed.work.frames
    holed.press("Return")
    assert holed.work.frames <= frames - 480


def test_the_trust_band_surrounds_what_is_rebuilt(holed, window):
    holed.press("N")
    offer = window.mending.offers.current
    band = offer.trust[0]
    assert (band.start, len(band.deviation)) == (HOLE.start, 480)
    assert band.deviation[0] < band.deviation[240]


def test_a_selection_is_offered_fillings_and_mended(holed, window):
    holed.work.selection = Selection(2 * RATE, 2 * RATE + 400, (0,))
    window.bench.place_changed.emit()
    holed.press("Ctrl+B")
    assert window.treatment.currentWidget() is window.treatment.finding
    assert "Selection" in window.treatment.finding.what.text()
    assert len(visible_cards(window)) == 5
    holed.press("2")
    holed.press("Return")
    mend = holed.work.history.mends[0]
    assert (mend.start, mend.stop, mend.parameters["using"]) == (2 * RATE, 2 * RATE + 400, "prediction")
    assert not holed.work.history.mends[0].finding_ids


def test_leaving_the_selection_leaves_its_offers(holed, window):
    window.bench.select(2 * RATE, 2 * RATE + 400)
    holed.press("Ctrl+B")
    assert window.mending.place is not None
    holed.press("Ctrl+D")
    assert window.mending.place is None
    assert window.mending.offers is None


def test_a_rehearsal_is_shown_and_its_choice_comes_first(holed, window):
    holed.press("N")
    seen = []

    def choose():
        dialog = QApplication.activeModalWidget()
        if not isinstance(dialog, RehearsalDialog):
            QTimer.singleShot(50, choose)
            return
        seen.extend(dialog.table.item(row, 0).text() for row in range(dialog.table.rowCount()))
        dialog.table.selectRow(seen.index("Both sides"))
        dialog.accept()

    QTimer.singleShot(50, choose)
    holed.press("Ctrl+Shift+B")
    holed.settle()
    assert {"All that is known", "Both sides", "Like sound nearby"} <= set(seen)
    assert holed.work.preferred == {"dropout": "Both sides"}
    assert window.mending.offers.remedies[0].title == "Both sides"
    assert "comes first" in window.status.message.text()


def test_what_cannot_be_rehearsed_says_why(holed, window):
    assert "Choose a finding first" in window.rehearsing.reason_against()


def test_what_cannot_be_made_here_says_why_and_another_comes_first(hands, window, tmp_path):
    sound = faultless(0.5)
    hands.open(write(tmp_path / "short.wav", sound))
    window.bench.select(2000, 2000 + round(0.25 * RATE))
    hands.press("Ctrl+B")
    offers = window.mending.offers
    refused = [number for number, offer in enumerate(offers.offers) if isinstance(offer, Refusal)]
    assert refused
    assert offers.current is not None
    hands.press(str(refused[0] + 1))
    hands.press("Return")
    assert "is like what is around" in window.status.message.text()
    assert not hands.work.history.mends


def test_a_big_click_can_be_mended_with_its_thump(hands, window, tmp_path):
    truth, at = 0.5 * faultless(6.0), 3 * RATE
    noisy, time = truth.copy(), np.arange(round(0.3 * RATE)) / RATE
    noisy[at : at + 4] += 0.8
    noisy[at : at + len(time), 0] += 0.4 * np.exp(-time / 0.05) * np.sin(2 * np.pi * 30 * time)
    hands.open(write(tmp_path / "thump.wav", noisy))
    hands.press("F5")
    hands.press("N")
    titles = [remedy.title for remedy in window.mending.offers.remedies]
    hands.press(str(titles.index("And its thump") + 1))
    hands.press("Return")
    assert hands.work.history.mends[0].method == "dethump"
    heard = hands.work.version.read(at, at + len(time))
    there = slice(at, at + len(time))
    assert np.square(heard - truth[there]).sum() < 0.05 * np.square(noisy[there] - truth[there]).sum()


def test_a_fade_says_what_it_does_to_the_level_and_doubts_nothing(hands, window, tmp_path):
    hands.open(write(tmp_path / "cut.wav", faultless(4.0)[RATE:]))
    hands.press("F5")
    hands.press("N")
    assert hands.work.focus.kind == "hard_edge"
    told = window.treatment.finding.effect.text()
    assert "without information" not in told
    assert "rebuilt" not in told
    assert window.mending.offers.current.trust == ()


def test_a_soft_knee_is_chosen_by_its_key_and_straightens_all_clipping_at_once(hands, window, tmp_path):
    spoken, rail = voice(2.0), 0.3
    truth = 0.6 * spoken / np.abs(spoken).max()
    cut = np.clip(bent(truth, 3.1, 2.0, rail), -rail, rail)
    hands.open(write(tmp_path / "bent.wav", cut))
    hands.press("F5")
    hands.press("Ctrl+N")
    assert hands.work.focus.kind == "clipping"
    titles = [remedy.title for remedy in window.mending.offers.remedies]
    hands.press(str(titles.index("And its soft knee") + 1))
    window.mending.mend_all(hands.work.listing().open_findings("clipping"))
    hands.settle()
    assert len({tuple(mend.parameters.items()) for mend in hands.work.history.mends}) == 1
    heard = hands.work.version.read(0, len(truth))
    there = np.abs(truth) > 0.21
    assert np.square(heard - truth)[there].sum() < 0.2 * np.square(cut - truth)[there].sum()


def test_what_a_line_made_up_is_better_left_unless_a_candidate_is_chosen(hands, window, tmp_path):
    hands.open(write(tmp_path / "call.wav", over_a_line(), LINE_RATE))
    hands.press("F5")
    made_up = next(f for f in hands.work.listing().open_findings("dropout") if f.detail.get("concealed"))
    window.bench.focus(made_up)
    hands.settle()
    assert "Better left" in window.treatment.finding.detail.text()
    hands.press("Enter")
    assert "Better left" in window.status.message.text()
    assert hands.work.history.mend_count == 0
    hands.press("1")
    hands.press("Enter")
    assert hands.work.state_of(made_up) is State.MENDED
