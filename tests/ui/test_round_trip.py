import os
import shutil

import numpy as np
import pytest
import soundfile

from tests.sounds import sine, write
from tests.ui.conftest import Hands, focus_longest, mend_quickly
from umbrick.core.sound.kept_originals import bring_back, kept_of
from umbrick.playback.simulated import SimulatedOutput
from umbrick.ui.window import BenchWindow


@pytest.fixture
def trip(qapp, qtbot):
    window = BenchWindow(SimulatedOutput(), is_round_trip=True)
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow)
    yield Hands(window, qtbot)
    if window.isVisible():
        window.close()
    window.deleteLater()


def read(path):
    return soundfile.read(path, dtype="float32", always_2d=True)[0]


def test_from_another_program_and_back_with_it_mended(trip, hot, qtbot):
    """Job 15: opened straight to the file, mended, put back, the old one kept and restorable; 3 acts and the mend."""
    path, window = hot[0], trip.window
    old = path.read_bytes()
    trip.open(path)
    trip.press("F5")
    finding = focus_longest(trip)
    trip.press("Enter")
    acts = trip.acts - 1  # the mend itself
    mended_sound = trip.work.version.read(0, trip.work.frames)
    gain = 10 ** (trip.work.fitting_gain_db / 20)
    trip.press("F2", window)
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=10_000)
    assert acts + 1 <= 3
    assert window.put_back_in_trip
    after = read(path)
    assert np.abs(after - mended_sound * gain).max() < 2.0**-21
    assert np.abs(after[finding.start : finding.stop]).max() > 0.98 * gain
    kept = kept_of(path)[0].path
    assert kept.read_bytes() == old
    bring_back(path)
    assert path.read_bytes() == old


def test_closing_a_round_trip_leaves_the_file_and_says_so(trip, hot):
    old = hot[0].read_bytes()
    trip.open(hot[0])
    assert not trip.window.actions_.actions["put_back"].isEnabled()
    assert "Nothing has been changed" in trip.window.actions_.actions["put_back"].toolTip()
    trip.window.close()
    assert not trip.window.put_back_in_trip
    assert hot[0].read_bytes() == old


def test_put_back_twice_keeps_one_old_file_and_can_be_brought_back_in_the_window(surveyed, hot, window):
    hands, path = surveyed, hot[0]
    old = path.read_bytes()
    mend_quickly(hands)
    before = hands.work.history.original.read(0, hands.work.frames)
    hands.press("F2")
    once = path.read_bytes()
    assert "The old file is kept as" in window.status.message.text()
    assert not hands.work.has_unsaved_mends
    mend_quickly(hands)
    hands.press("F2")
    assert path.read_bytes() not in (once, old)
    assert len(kept_of(path)) == 1
    assert np.array_equal(hands.work.history.original.read(0, hands.work.frames), before)
    window.actions_.actions["bring_back"].trigger()
    hands.settle()
    assert path.read_bytes() == old
    hands.press("F2")
    hands.press("Ctrl+W")
    hands.open(path)
    assert len(hands.work.history.mends) == 2
    assert hands.work.home == path
    assert np.array_equal(hands.work.history.original.read(0, hands.work.frames), before)


def change_by_replacing(path, tmp_path):
    other = write(tmp_path / "other.wav", sine(seconds=1.0))
    os.replace(other, path)
    return path.read_bytes()


@pytest.mark.parametrize("choice", ["Keep mine", "Take theirs"])
def test_another_programs_change_is_noticed_and_both_are_kept(surveyed, hot, window, tmp_path, choice):
    hands, path = surveyed, hot[0]
    old = read(path)
    mend_quickly(hands)
    theirs = change_by_replacing(path, tmp_path)
    hands.press("F2")
    assert "changed by another program" in window.notices.text.text()
    assert path.read_bytes() == theirs
    button = next(b for b in window.notices.buttons if b.text() == choice)
    hands.click(button)
    hands.settle()
    if choice == "Keep mine":
        hands.press("F2")
        assert len(read(path)) == len(old)
        assert theirs in [kept.path.read_bytes() for kept in kept_of(path)]
        assert np.array_equal(hands.work.history.original.read(0, len(old)), old)
    else:
        assert hands.work.frames == 48000
        assert path.read_bytes() == theirs
        assert any(np.array_equal(read(kept.path), old) for kept in kept_of(path))


def test_a_file_written_over_while_open_is_told(surveyed, hot, window):
    write(hot[0], sine(seconds=2.0))
    window.putting_back.look()
    assert "written over" in window.notices.text.text()
    surveyed.click(next(b for b in window.notices.buttons if b.text() == "Take theirs"))
    surveyed.settle()
    assert surveyed.work.survey is None
    assert np.abs(surveyed.work.version.read(0, 1000)).max() < 0.6


def test_a_casebook_from_elsewhere_may_not_write_where_its_paths_lead(surveyed, hot, window, tmp_path, qtbot):
    mend_quickly(surveyed)
    window.opening.name_casebook(hot[0].with_suffix(".casebook"))
    surveyed.settle()
    window.close()
    strange = tmp_path / "strange"
    strange.mkdir()
    for name in ("hot.wav", "hot.casebook"):
        shutil.move(tmp_path / name, strange / name)
    old = (strange / "hot.wav").read_bytes()
    again = BenchWindow(SimulatedOutput())
    again.show()
    hands = Hands(again, qtbot)
    hands.open(strange / "hot.casebook")
    hands.press("F2")
    assert (strange / "hot.wav").read_bytes() == old
    assert "have not opened that file yourself" in again.notices.text.text()
    hands.click(again.notices.buttons[0])
    assert (strange / "hot.wav").read_bytes() != old
    again.close()
    again.deleteLater()


def test_a_file_deleted_by_another_program_is_put_back_all_the_same(surveyed, hot, window):
    old = read(hot[0])
    mend_quickly(surveyed)
    hot[0].unlink()
    surveyed.press("F2")
    assert len(read(hot[0])) == len(old)
    assert surveyed.work.recording.path != hot[0]
    assert np.array_equal(read(surveyed.work.recording.path), old)


def test_a_question_put_off_is_asked_again_before_anything_is_replaced(surveyed, hot, window, tmp_path):
    mend_quickly(surveyed)
    theirs = change_by_replacing(hot[0], tmp_path)
    window.putting_back.look()
    surveyed.click(next(b for b in window.notices.buttons if b.text() == "Not now"))
    assert not window.notices.isVisible()
    window.putting_back.look()
    assert not window.notices.isVisible()
    surveyed.press("F2")
    assert window.notices.isVisible()
    assert hot[0].read_bytes() == theirs
