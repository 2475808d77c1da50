"""Nothing is lost: closing, coming back, being killed, and recordings that have moved or changed."""

import multiprocessing
import os
import shutil
import signal

import numpy as np
import pytest
from PySide6.QtWidgets import QFileDialog, QMenu, QMessageBox

from tests.sounds import clipped, faultless, rng, sine, write
from tests.ui.conftest import Hands, focus_longest, mend_quickly
from umbrick.casebook.unnamed import left_behind
from umbrick.core.errors import UmbrickError
from umbrick.playback.simulated import SimulatedOutput
from umbrick.ui.window import BenchWindow
from umbrick.work.whereabouts import standing_of


@pytest.fixture
def start(qapp, qtbot):
    """Start Umbrick as often as wanted; what is still open at the end is closed."""
    windows = []

    def run(*paths):
        window = BenchWindow(SimulatedOutput())
        window.resize(1280, 800)
        window.show()
        window.activateWindow()
        qtbot.waitUntil(window.isActiveWindow)
        windows.append(window)
        hands = Hands(window, qtbot)
        if paths:
            window.open(list(paths))
            qtbot.waitUntil(lambda: window.bench.jobs.is_idle, timeout=20_000)
            hands.settle()
        return hands

    yield run
    for window in windows:
        if window.isVisible():
            window.close()
        window.deleteLater()


def notice(hands, text):
    assert text in hands.window.notices.text.text(), hands.window.notices.text.text()
    return {button.text(): button for button in hands.window.notices.buttons}


def named(hands, path):
    hands.window.opening.name_casebook(path)
    hands.settle()
    hands.window.close()


def test_everything_is_as_it_was_after_days(start, hot):
    hands = start(hot[0])
    bench = hands.window.bench
    hands.press("F5")
    mend_quickly(hands)
    hands.press("K")
    hands.press("Ctrl+Z")
    bench.set_sensitivity("clipping", 0.75)
    bench.select(1000, 2000)
    bench.zoom_passage(0.1, 30_000)
    bench.focus(hands.work.listing().open_findings()[2])
    work = hands.work
    hands.qtbot.waitUntil(lambda: not work.tried_sensitivity)  # it is written a moment after the last change
    hands.settle()
    before = (
        work.version.key, work.cursor, work.selection, work.passage, work.loupe, work.focus.id, work.sensitivity,
        [f.id for f in work.listing().open_findings()], work.history.redo_title, work.measures(),
    )  # fmt: skip
    named(hands, hot[0].with_name("days.casebook"))
    again = start(hot[0].with_name("days.casebook"))
    assert left_behind() == []  # what had no name before is not offered again
    work = again.work
    assert again.window.windowTitle() == "hot.wav — days.casebook — Umbrick"
    assert before == (
        work.version.key, work.cursor, work.selection, work.passage, work.loupe, work.focus.id, work.sensitivity,
        [f.id for f in work.listing().open_findings()], work.history.redo_title, work.measures(),
    )  # fmt: skip
    again.press("Ctrl+Z")
    assert again.work.sensitivity != before[6]


def test_unnamed_work_is_offered_back_and_can_be_thrown_away(start, hot):
    hands = start(hot[0])
    hands.press("F5")
    mend_quickly(hands)
    key = hands.work.version.key
    hands.window.close()
    again = start()
    again.window.casebooks.look_for_work(again.window.offer_work_left)
    again.settle()
    again.click(notice(again, "Work on hot of")["Go on with it"])
    again.qtbot.waitUntil(lambda: again.work is not None)
    again.settle()
    assert again.work.version.key == key
    again.window.close()
    (left,) = left_behind()
    third = start()
    third.window.offer_work_left([left])
    third.in_dialog(lambda box: box.button(QMessageBox.StandardButton.Discard).click())
    third.click(notice(third, "Work on hot of")["Throw away…"])
    assert left_behind() == []


def test_work_that_is_in_files_is_kept_but_not_pressed_on_anybody(start, hot):
    hands = start(hot[0])
    hands.press("F5")
    mend_quickly(hands)
    hands.press("F2")
    hands.window.close()
    again = start()
    (left,) = left_behind()
    assert left.is_in_files
    again.window.offer_work_left([left])
    assert not again.window.notices.isVisible()
    menu = next(m for m in again.window.findChildren(QMenu) if m.title() == "Work without a name")
    menu.aboutToShow.emit()
    menu.actions()[0].trigger()
    again.qtbot.waitUntil(lambda: again.work is not None)
    again.settle()
    assert again.work.home == hot[0]
    assert len(again.work.history.mends) == 1


def test_a_bench_on_which_nothing_was_done_leaves_nothing_behind(start, hot):
    hands = start(hot[0])
    hands.press("F5")
    hands.window.close()
    assert left_behind() == []


def work_and_die(path, home, ready):
    """A whole Umbrick in a process of its own, killed after its first mend."""
    os.environ.update(UMBRICK_HOME=str(home), QT_QPA_PLATFORM="offscreen")
    from PySide6.QtWidgets import QApplication

    QApplication([])
    window = BenchWindow(SimulatedOutput())

    def wait(until):
        while not until():
            QApplication.processEvents()

    window.open([path])
    wait(lambda: bool(window.bench.works))
    wait(window.is_settled)
    window.surveying.start()
    wait(window.is_settled)
    window.bench.focus(window.bench.work.listing().open_findings()[0])
    wait(lambda: window.mending.offers and window.mending.offers.current)
    window.mending.mend()
    ready.send(window.bench.work.history.now)
    os.kill(os.getpid(), signal.SIGKILL)


def test_a_killed_window_loses_nothing(start, hot, own_home):
    context = multiprocessing.get_context("spawn")
    told, ready = context.Pipe(duplex=False)
    process = context.Process(target=work_and_die, args=(hot[0], own_home, ready))
    process.start()
    assert told.poll(60)
    assert told.recv() == 1
    process.join(timeout=20)
    assert process.exitcode == -signal.SIGKILL
    hands = start()
    hands.window.casebooks.look_for_work(hands.window.offer_work_left)
    hands.settle()
    hands.click(notice(hands, "Work on hot of")["Go on with it"])
    hands.qtbot.waitUntil(lambda: hands.work is not None)
    hands.settle()
    assert len(hands.work.history.mends) == 1


def test_a_missing_recording_is_found_again(start, hot, tmp_path, monkeypatch):
    hands = start(hot[0])
    hands.press("F5")
    mend_quickly(hands)
    named(hands, tmp_path / "work.casebook")
    moved = tmp_path / "elsewhere" / "tape.wav"
    moved.parent.mkdir()
    shutil.move(hot[0], moved)
    again = start(tmp_path / "work.casebook")
    buttons = notice(again, "hot.wav is not where it was")
    other = write(tmp_path / "other.wav", sine(seconds=2.0))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(other), ""))
    again.click(buttons["Find it…"])
    assert "is not the recording that the mends were made on" in again.window.status.message.text()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(moved), ""))
    again.window.open([tmp_path / "work.casebook"])
    again.window.close()
    third = start(tmp_path / "work.casebook")
    third.click(notice(third, "hot.wav is not where it was")["Find it…"])
    third.qtbot.waitUntil(lambda: third.work is not None)
    third.settle()
    assert third.work.home == moved
    assert len(third.work.history.mends) == 1


def test_a_recording_that_moved_with_its_casebook_needs_no_question(start, hot, tmp_path):
    hands = start(hot[0])
    hands.press("F5")
    mend_quickly(hands)
    key = hands.work.version.read(0, 100).tobytes()
    (tmp_path / "a").mkdir()
    named(hands, tmp_path / "a" / "work.casebook")
    (tmp_path / "b").mkdir()
    shutil.move(tmp_path / "a" / "work.casebook", tmp_path / "b")
    shutil.move(hot[0], tmp_path / "b")
    again = start(tmp_path / "b" / "work.casebook")
    assert again.work.home == tmp_path / "b" / "hot.wav"
    assert again.work.version.read(0, 100).tobytes() == key


def test_a_recording_that_has_changed_is_opened_only_when_told(start, hot, tmp_path):
    hands = start(hot[0])
    hands.press("F5")
    mend_quickly(hands)
    named(hands, tmp_path / "work.casebook")
    write(hot[0], clipped(faultless(2.0, seed=4), 0.004)[0])
    again = start(tmp_path / "work.casebook")
    assert again.work is None
    again.click(notice(again, "hot.wav has changed since")["Open it all the same"])
    again.qtbot.waitUntil(lambda: again.work is not None)
    again.settle()
    assert len(again.work.history.mends) == 1
    again.window.close()
    write(hot[0], sine(seconds=1.0))
    third = start(tmp_path / "work.casebook")
    third.click(notice(third, "hot.wav has changed since")["Open it all the same"])
    third.settle()
    assert "another length or form" in third.window.status.message.text()


def test_killed_between_putting_back_and_noting_it_the_old_file_is_found(start, hot, tmp_path, monkeypatch):
    hands = start(hot[0])
    hands.press("F5")
    mend_quickly(hands)
    key = hands.work.version.key
    named_path = tmp_path / "work.casebook"
    hands.window.opening.name_casebook(named_path)
    hands.settle()
    monkeypatch.setattr(hands.window.putting_back, "_put", lambda *_: None)  # as if killed just before it
    hands.press("F2")
    hands.window.close()
    again = start(named_path)
    assert again.work.home == hot[0]
    assert again.work.recording.path == tmp_path / "hot.original.wav"
    assert again.work.version.key == key


def test_a_damaged_casebook_opens_as_far_as_it_goes(start, hot, tmp_path):
    path = tmp_path / "work.casebook"
    hands = start(hot[0])
    hands.press("F5")
    mend_quickly(hands)
    named(hands, path)
    data = bytearray(path.read_bytes())
    data[100:110] = rng().bytes(10)
    path.write_bytes(data)
    again = start(path)
    assert (
        "damaged" in again.window.status.message.text() or "Nothing can be read" in again.window.status.message.text()
    )
    assert path.read_bytes() == data


def test_an_edit_that_cannot_be_written_is_not_shown_as_done(surveyed, window, monkeypatch):
    work = surveyed.work

    def refuse(*_):
        raise UmbrickError("There is no room left on the disk of work.casebook.")

    monkeypatch.setattr(work.shelf, "write", refuse)
    focus_longest(surveyed)
    before = work.version
    surveyed.press("Enter")
    assert work.version is before
    assert work.history.mends == ()
    assert "There is no room left" in window.status.message.text()
    assert window.status.message.property("wrong")
    surveyed.press("K")
    assert np.array_equal(work.listing().codes, np.zeros_like(work.listing().codes))


def test_mending_all_holds_other_edits_back_and_ends_in_one_step(surveyed, window):
    work = surveyed.work
    window.mending.mend_all(work.listing().open_findings())
    assert work.held
    window.bench.keep()
    window.bench.undo()
    surveyed.settle()
    assert not work.held
    assert work.history.now == 1
    surveyed.press("Ctrl+Z")
    assert work.version.key == work.history.original.key


def test_settings_of_one_kind_hold_on_after_days(start, hot):
    hands = start(hot[0])
    hands.press("F5")
    hands.press("N")
    hands.press("Shift+E")
    hands.type("-1.5\n", hands.window.treatment.finding.settings.fields["rail_dbfs"])
    named(hands, hot[0].with_name("set.casebook"))
    again = start(hot[0].with_name("set.casebook"))
    again.press("N")
    again.settle()
    offers = again.window.mending.offers
    assert offers.chosen_remedy.is_adjusted
    assert offers.current.mended.mends[0].parameters["rail_dbfs"] == -1.5
    again.press("Shift+E")
    again.click(again.window.treatment.finding.usual)
    assert not offers.chosen_remedy.is_adjusted
    assert offers.current.mended.mends[0].parameters["rail_dbfs"] == "auto"
    again.window.close()
    assert start(hot[0].with_name("set.casebook")).work.adjusted == {}


@pytest.mark.parametrize(
    "told", ["-", 3, {"settings": 1}, {"settings": {}, "method": "none"}, {"settings": {"x": 1}, "method": "declip"}]
)
def test_settings_that_no_method_has_are_left_out(surveyed, told):
    work = surveyed.work
    work.history.begin_with(standing_of({"adjusted": {"clipping": told}}, {}))
    assert work.adjusted == {}
