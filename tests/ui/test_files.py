import os
import subprocess
import sys

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from tests.sounds import faultless, sine, voice, write
from tests.ui.conftest import focus_longest
from umbrick.casebook.reporting import facts_of_shelf
from umbrick.core.errors import UmbrickError
from umbrick.core.sound.cues import read_cues
from umbrick.core.survey.finding import State
from umbrick.demo import recordings
from umbrick.ui import settings
from umbrick.ui.application import refuse_unreliable_qt
from umbrick.ui.bench.jobs import Job
from umbrick.ui.dialogs.save_dialog import SaveDialog
from umbrick.ui.files.reporting import facts_of_work


def drop(window, *paths):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    how = (Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    enter = QDragEnterEvent(QPoint(600, 400), *how)
    QApplication.sendEvent(window, enter)
    assert enter.isAccepted()
    QApplication.sendEvent(window, QDropEvent(QPointF(600, 400), *how))


def test_an_empty_bench_says_what_to_do_and_offers_the_demo(window, hands):
    assert window.windowTitle() == "Umbrick"
    hands.settle()
    (button,) = [button for button in window.findChildren(QPushButton) if button.text() == "Open the demo"]
    assert button.isVisible()
    hands.click(button)
    hands.qtbot.waitUntil(lambda: len(window.bench.works) == len(recordings()), timeout=20_000)
    hands.settle()
    assert window.bench.work.recording.name == "keeper-interview"
    assert not button.isVisible()
    assert window.header.form.text() == "48 kHz · 16 bit · mono · 1:30.2"


@pytest.mark.parametrize("suffix", ["wav", "flac", "ogg", "mp3", "aiff"])
def test_a_dropped_file_opens(window, hands, tmp_path, suffix):
    subtype = {"ogg": "VORBIS", "mp3": None}.get(suffix, "PCM_16")
    path = write(tmp_path / f"a.{suffix}", voice(1.0), subtype=subtype)
    drop(window, path)
    hands.qtbot.waitUntil(lambda: bool(window.bench.works), timeout=10_000)
    hands.settle()
    assert window.windowTitle() == f"a.{suffix} — Umbrick"
    assert settings.recent_files() == [str(path)]
    assert hands.work.pyramid.is_complete


def test_several_recordings_are_open_at_once_and_the_same_file_only_once(window, hands, tmp_path):
    paths = [write(tmp_path / f"{n}.wav", voice(1.0, seed=n)) for n in range(3)]
    hands.open(*paths)
    assert window.header.recordings.count() == 3
    window.header.recordings.setCurrentIndex(0)
    window.header.recordings.activated.emit(0)
    assert hands.work.recording.name == "0"
    window.open([paths[2]])
    hands.settle()
    assert len(window.bench.works) == 3
    assert hands.work.recording.name == "2"
    hands.press("Ctrl+W")
    assert [work.recording.name for work in window.bench.works] == ["0", "1"]


def test_files_that_cannot_be_opened_are_told_in_one_sentence(window, hands, tmp_path):
    (tmp_path / "text.wav").write_text("no sound" * 50)
    (tmp_path / "empty.wav").write_bytes(b"")
    for name, says in (("text.wav", "not a sound file"), ("empty.wav", "is empty"), ("gone.wav", "There is no file")):
        drop(window, tmp_path / name)
        hands.qtbot.waitUntil(lambda says=says: says in window.status.message.text(), timeout=5000)
        assert window.status.message.property("wrong")
    assert not window.bench.works


def test_damage_is_told_and_the_readable_part_is_open(window, hands, tmp_path):
    path = write(tmp_path / "a.wav", sine(seconds=4.0))
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    hands.open(path)
    assert hands.work.frames == pytest.approx(2 * 48000, abs=100)
    assert "the rest is missing" in window.status.message.text()
    broken = sine(seconds=1.0)
    broken[500] = np.nan
    hands.open(write(tmp_path / "b.wav", broken, subtype="FLOAT"), path)
    window.bench.show_work(window.bench.works[-1])
    hands.settle()
    assert "not numbers" in window.status.message.text()


@pytest.mark.parametrize("sound", [np.zeros((1, 1)), np.zeros((48000, 1)), np.zeros((10, 16))])
def test_tiny_and_silent_recordings_are_shown_and_surveyed(window, hands, tmp_path, sound):
    hands.open(write(tmp_path / "a.wav", sound))
    hands.press("F5")
    assert "no faults" in window.status.message.text()
    for key in ("+", "-", "0", "Home", "End", "Right", "PgDown", "Space"):
        hands.press(key)
    for strip in window.strips:
        assert not strip.grab().isNull()


def save_with(hands, do):
    def act(dialog):
        assert isinstance(dialog, SaveDialog)
        do(dialog)

    hands.in_dialog(act)
    hands.press("Ctrl+S")


def mend_all(hands):
    hands.in_dialog(lambda dialog: QTest.keyClick(dialog, Qt.Key.Key_Return))
    hands.press("Shift+Enter")


def test_saving_offers_the_level_that_fits_or_a_float_file(surveyed, tmp_path, window):
    hands = surveyed
    mend_all(hands)
    peak = hands.work.peak

    def choose_float(dialog):
        assert dialog.lowered.isChecked()
        assert "Rebuilt peaks reach" in dialog.facts.text()
        dialog.as_float.click()
        dialog.path.setText(str(tmp_path / "float.wav"))
        dialog.accept_button.click()

    save_with(hands, choose_float)
    assert soundfile.info(tmp_path / "float.wav").subtype == "FLOAT"
    assert np.abs(soundfile.read(tmp_path / "float.wav")[0]).max() == pytest.approx(peak, rel=1e-6)

    def type_a_level(dialog):
        dialog.gain.clear()
        QTest.keyClicks(dialog.gain, "-9 dB")
        assert dialog.typed.isChecked()
        dialog.subtype.setCurrentIndex(1)
        assert "Dithered" in dialog.note.text()
        dialog.path.setText(str(tmp_path / "low.wav"))
        dialog.accept_button.click()

    save_with(hands, type_a_level)
    assert soundfile.info(tmp_path / "low.wav").subtype == "PCM_16"
    assert np.abs(soundfile.read(tmp_path / "low.wav")[0]).max() == pytest.approx(peak * 10 ** (-9 / 20), rel=1e-3)

    def leave(dialog):
        dialog.as_is.click()
        assert "cut off again" in dialog.note.text()
        dialog.path.setText(str(tmp_path / "cut.wav"))
        dialog.accept_button.click()

    save_with(hands, leave)
    assert "were cut off in the file" in window.status.message.text()


def test_a_float_copy_of_a_flac_gets_an_ending_that_can_hold_it(hands, hot, tmp_path):
    sound, rate = soundfile.read(hot[0])
    hands.open(write(tmp_path / "hot.flac", sound, rate))
    hands.press("F5")
    mend_all(hands)

    def look(dialog):
        dialog.as_float.click()
        assert dialog.path.text().endswith("hot-mended.wav")
        dialog.lowered.click()
        assert dialog.path.text().endswith("hot-mended.flac")
        dialog.reject()

    save_with(hands, look)


def test_what_cannot_be_saved_so_says_why_before_writing(surveyed, tmp_path):
    def look(dialog):
        for text, says in (
            ("", "Give the file a name"),
            (str(tmp_path / "a.xyz"), "not an ending"),
            (str(tmp_path), "not an ending|folder"),
        ):
            dialog.path.setText(text)
            assert not dialog.accept_button.isEnabled()
            assert any(part in dialog.note.text() for part in says.split("|"))
        dialog.path.setText(str(tmp_path / "a.wav"))
        assert dialog.accept_button.isEnabled()
        dialog.typed.click()
        dialog.gain.setText("louder")
        assert not dialog.accept_button.isEnabled()
        dialog.reject()

    save_with(surveyed, look)


def test_the_recordings_own_file_is_no_target_for_a_copy(surveyed, hot):
    def look(dialog):
        dialog.path.setText(str(hot[0]))
        assert "own file" in dialog.note.text()
        assert not dialog.accept_button.isEnabled()

    save_with(surveyed, look)


def test_a_selection_is_saved_in_another_form_with_its_markers(surveyed, tmp_path, window):
    hands = surveyed
    window.bench.set_cursor(30_000)
    hands.press("T")
    window.bench.select(24_000, 72_000)

    def choose(dialog):
        dialog.pattern.setText("{name}-part")
        QTest.keyClicks(dialog.pattern, "1")
        assert dialog.path.text().endswith("hot-part1.wav")
        dialog.rate.setCurrentIndex(dialog.rate.findData(96000))
        dialog.channels.setCurrentIndex(1)
        assert "The selection: 1.00 s. Dithered." in dialog.note.text()
        dialog.accept_button.click()

    hands.in_dialog(choose)
    hands.press("Ctrl+Alt+S")
    saved = tmp_path / "hot-part1.wav"
    read, rate = soundfile.read(saved, always_2d=True)
    assert (rate, read.shape) == (96000, (96000, 2))
    assert [(cue.start, cue.name) for cue in read_cues(saved)] == [(12_000, "Marker 1")]
    assert hands.work.has_unsaved_mends is False
    save_with(hands, lambda dialog: (dialog.path.text().endswith("hot-part1-2.wav"), dialog.reject()))


def test_a_file_changed_by_another_program_is_not_saved_over(surveyed, hot, tmp_path, window):
    write(hot[0], sine(seconds=2.0))
    save_with(surveyed, lambda dialog: dialog.accept_button.click())
    assert "changed or removed by another program" in window.status.message.text()
    assert not (tmp_path / "hot-mended.wav").exists()


def test_a_recording_can_be_closed_while_it_plays_and_is_surveyed(window, hands, tmp_path):
    hands.open(write(tmp_path / "a.wav", np.tile(voice(5.0), (20, 1))))
    window.surveying.start()
    hands.press("Space", window)
    hands.qtbot.waitUntil(lambda: window.viewing.playhead is not None)
    hands.press("Ctrl+W", window)
    hands.settle()
    assert not window.bench.works
    assert window.surveying.job is None
    assert not window.status.message.property("wrong")


def test_a_closed_recording_comes_back_with_its_mends(surveyed, window, hot):
    hands = surveyed
    focus_longest(hands)
    hands.press("Enter")
    assert window.header.recordings.currentText().endswith("*")
    mended = hands.work.version.key
    hands.press("Ctrl+W")
    assert not window.bench.works
    assert "is kept" in window.status.message.text()
    hands.open(hot[0])
    assert hands.work.version.key == mended
    assert hands.work.listing().open_findings()


def test_a_picture_of_the_loaded_demo_is_saved(tmp_path):
    def shoot(path):
        command = [sys.executable, "-c", "from umbrick.cli import main; main()", "demo", "--shot", path]
        return subprocess.run(command, capture_output=True, text=True, timeout=60)

    assert shoot(tmp_path / "shot.png").returncode == 0
    image = QImage(str(tmp_path / "shot.png"))
    assert (image.width(), image.height()) == (1280, 800)
    refused = shoot(tmp_path / "no" / "shot.png")
    assert refused.returncode == 1
    assert "cannot be written" in refused.stderr
    assert "Traceback" not in refused.stderr


def test_without_a_display_one_sentence_says_what_to_do(tmp_path):
    environment = {name: value for name, value in os.environ.items() if name not in ("DISPLAY", "QT_QPA_PLATFORM")}
    command = [sys.executable, "-c", "from umbrick.cli import main; main()", "demo"]
    refused = subprocess.run(command, capture_output=True, text=True, timeout=60, env=environment)
    assert refused.returncode == 1
    assert refused.stderr.startswith("umbrick: There is no display")
    assert len(refused.stderr.strip().splitlines()) == 1


def test_the_release_of_qt_that_crashes_is_refused():
    with pytest.raises(UmbrickError, match=r"6\.12"):
        refuse_unreliable_qt((6, 12), (3, 11))
    refuse_unreliable_qt((6, 11), (3, 11))
    refuse_unreliable_qt((6, 12), (3, 12))


def test_a_file_asked_for_twice_while_it_loads_is_opened_once(hands, tmp_path):
    path = write(tmp_path / "a.wav", faultless(2.0))
    link = tmp_path / "link.wav"
    link.symlink_to(path)
    for asked in (path, path, link):
        hands.window.open([asked])
    hands.qtbot.waitUntil(lambda: bool(hands.window.bench.works), timeout=60_000)
    hands.settle()
    assert [work.home for work in hands.window.bench.works] == [path]
    casebook = hands.window.casebooks.casebook()
    assert len(casebook.shelves()) == 1


def test_while_the_casebook_is_written_edits_wait_also_on_what_is_opened_meanwhile(hands, tmp_path):
    hands.open(write(tmp_path / "a.wav", faultless(1.0)))
    bench = hands.window.bench
    one = bench.leases.take("The casebook is being written; edits wait.")
    own = bench.work.leases.take("Something else needs it.")
    hands.open(write(tmp_path / "b.wav", faultless(1.0)))
    assert bench.work.held == "The casebook is being written; edits wait."
    own.release()
    assert bench.works[0].held == "The casebook is being written; edits wait."
    hands.press("T")
    assert "edits wait" in hands.window.status.message.text()
    one.release()
    one.release()
    hands.press("T")
    assert len(bench.work.history.markers) == 1


def test_findings_that_another_mend_closed_are_mended_in_docket_report_and_casebook(surveyed, tmp_path):
    work = surveyed.work
    first, second = work.listing().open_findings("clipping")[:2]
    surveyed.window.bench.focus(first)
    surveyed.settle()
    surveyed.press("Return")
    work.closed[work.version.key] = frozenset({second.id})
    work.shelf.write_closed(work.version.key, frozenset({second.id}))
    assert work.state_of(second) is State.MENDED
    facts = facts_of_work(work, Job("report"))
    assert facts.state_of(next(f for f in facts.findings if f.id == second.id)) is State.MENDED
    written, recording = facts_of_shelf(work.shelf)
    assert written.states[second.id] is State.MENDED
    recording.close()
