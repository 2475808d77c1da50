"""The first look in the window: a decent start, heard and switched before anything is done."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.sounds import RATE, faultless, rng, write
from tests.ui.test_course import heard
from umbrick.core.survey.finding import State
from umbrick.ui.bench.listening import Excerpts
from umbrick.ui.dialogs.first_look_dialog import FirstLookDialog
from umbrick.ui.dialogs.noise_rehearsal_dialog import NoiseRehearsalDialog


@pytest.fixture
def hurt(hands, tmp_path):
    """Phrases over hum and hiss, with clicks."""
    phrase = np.concatenate([0.3 * faultless(2.0, seed=4), np.zeros((2 * RATE, 1))])
    sound = np.tile(phrase, (4, 1))
    at = np.arange(len(sound)) / RATE
    hum = sum(0.01 / number * np.sin(2 * np.pi * 50 * number * at) for number in (1, 2, 3))
    sound = sound + hum[:, np.newaxis] + 0.003 * rng(7).standard_normal(sound.shape)
    for start in (30_000, 222_222, 431_000):
        sound[start : start + 3] += 0.5
    hands.open(write(tmp_path / "hurt.wav", sound))
    return hands


def press(dialog, key):
    """Press a key as a person does: it goes to what has the keyboard."""
    QTest.keyClick(dialog.focusWidget() or dialog, key)


def title_of(dialog, number):
    return dialog.rows[number].tick.accessibleName()


def test_a_decent_start_in_five_acts(hurt, window, qtbot):
    before = heard(hurt)
    seen = {}

    def look(dialog):
        assert isinstance(dialog, FirstLookDialog)
        qtbot.waitUntil(lambda: not window.looking.is_working_out, timeout=60_000)
        titles = [title_of(dialog, number) for number in range(len(dialog.rows))]
        seen["titles"] = titles
        assert "proposed" in dialog.heading.text()
        press(dialog, Qt.Key.Key_Space)
        assert window.listening.is_playing
        qtbot.waitUntil(lambda: window.listening.engine.position > RATE // 10, timeout=20_000)
        clicks = titles.index("Take out clicks")
        for _ in range(clicks):
            press(dialog, Qt.Key.Key_Down)
        press(dialog, Qt.Key.Key_A)
        qtbot.waitUntil(lambda: not window.looking.is_working_out, timeout=60_000)
        assert dialog.rows[clicks].alone.isChecked()
        assert "Take out clicks" in dialog.heard.text()
        press(dialog, Qt.Key.Key_A)
        # Only now, so that what is switched off is seen to be left out.
        press(dialog, Qt.Key.Key_X)
        assert not dialog.rows[clicks].tick.isChecked()
        qtbot.waitUntil(lambda: not window.looking.is_working_out, timeout=60_000)
        press(dialog, Qt.Key.Key_X)
        assert np.array_equal(heard(hurt), before)
        press(dialog, Qt.Key.Key_Return)

    acts = hurt.acts
    hurt.in_dialog(look)
    hurt.press("Ctrl+F5")
    qtbot.waitUntil(lambda: bool(hurt.work.history.edits), timeout=120_000)
    hurt.settle()
    assert hurt.acts - acts + 4 <= 5  # this, one step heard alone, playing, Enter
    assert [title for title in seen["titles"] if title in ("Take out hum", "Take out clicks", "Lower noise")] == [
        "Take out hum",
        "Take out clicks",
        "Lower noise",
    ]
    assert hurt.work.listing().count(State.MENDED) >= 3
    assert [step.method for step in hurt.work.history.course][:2] == ["dehum", "denoise"]
    pauses = np.arange(len(before)) % (4 * RATE) > 2.2 * RATE
    after = heard(hurt)
    assert np.square(after[pauses]).mean() < 0.1 * np.square(before[pauses]).mean()
    assert not window.listening.is_playing
    # Each can be lifted off still, and one undo takes all of it back.
    hurt.press("Alt+Del")
    hurt.press("Ctrl+Z")
    hurt.press("Ctrl+Z")
    assert np.array_equal(heard(hurt), before)
    assert hurt.work.history.course == ()


def test_nothing_is_done_when_it_is_left(hurt, window, qtbot):
    before = heard(hurt)
    hurt.press("F5")
    hurt.type("plosive", window.docket.search)
    window.strips[1].setFocus()

    def look(dialog):
        qtbot.waitUntil(lambda: not window.looking.is_working_out, timeout=60_000)
        # What the docket does not show is there all the same.
        assert "Take out clicks" in [title_of(dialog, number) for number in range(len(dialog.rows))]
        press(dialog, Qt.Key.Key_B)
        press(dialog, Qt.Key.Key_2)
        assert window.listening.is_playing
        dialog.reject()

    hurt.in_dialog(look)
    hurt.press("Ctrl+F5")
    qtbot.waitUntil(lambda: window.looking.job is None and window.surveying.job is None, timeout=120_000)
    hurt.settle()
    assert not hurt.work.history.edits
    assert not window.listening.is_playing
    assert np.array_equal(heard(hurt), before)
    hurt.press("Space")
    qtbot.waitUntil(lambda: window.listening.engine.position > 0, timeout=20_000)
    assert window.listening.engine.programme.before is hurt.work.history.original
    hurt.press("Space")


def test_where_nothing_is_open_it_says_why(window):
    assert "Open a recording first" in window.looking.reason_against()


def test_how_far_noise_is_lowered_is_rehearsed(hurt, window):
    window.actions_.actions["lay_denoise"].trigger()
    hurt.settle()

    def choose(dialog):
        assert isinstance(dialog, NoiseRehearsalDialog)
        dialog.table.selectRow(1)
        dialog.accept()

    hurt.in_dialog(choose)
    hurt.press("Ctrl+Alt+B")
    hurt.settle()
    assert hurt.work.history.course[0].settings["reduction_db"] == 8


def test_before_and_after_stay_side_by_side_when_a_mend_changes_the_length(hurt, window):
    def moments(frames):
        sound = np.zeros((frames, 1), np.float32)
        return Excerpts(sound, sound, RATE, (0,), (0,))

    window.listening.hear_excerpts(moments(RATE))
    before = window.listening.engine.programme.before
    window.listening.hear_excerpts(moments(RATE))
    assert window.listening.engine.programme.before is before
    window.listening.hear_excerpts(moments(2 * RATE))
    programme = window.listening.engine.programme
    assert programme.before.frames == programme.after.frames == 2 * RATE
    window.listening.hear_excerpts(None)
    assert window.listening.engine.programme.before is hurt.work.history.original
