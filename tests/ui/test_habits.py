"""Daily habits: quiet sound made tall, what can be done at a place, finding commands, a bench that stands as left."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QLineEdit, QScrollArea

from tests.sounds import faultless, write
from umbrick.core.timeline.change import delete, insert
from umbrick.core.timeline.history import Edit
from umbrick.core.view.window import Window
from umbrick.playback.simulated import SimulatedOutput
from umbrick.ui.dialogs.command_finder import CommandFinder
from umbrick.ui.hand.selecting import Ruler, Snap
from umbrick.ui.window import BenchWindow


@pytest.fixture
def quiet(hands, tmp_path):
    hands.open(write(tmp_path / "quiet.wav", 0.002 * faultless(2.0)))
    return hands


def height_of_wave(strip):
    """How many of the Passage's rows have ink of the waveform in them."""
    image = strip.grab(strip.content_rect().toRect()).toImage()
    pixels = np.frombuffer(image.constBits(), np.uint32).reshape(image.height(), image.width()) & 0xFFFFFF
    return int((pixels == int(strip.theme.body[1:], 16)).any(axis=1).sum())


def test_quiet_sound_is_made_tall_by_wheel_and_keys_and_fits_what_is_in_view(quiet):
    strip = quiet.window.strips[1]
    flat = height_of_wave(strip)
    at = QPointF(200, 80)
    for _ in range(16):
        event = QWheelEvent(at, strip.mapToGlobal(at), QPoint(), QPoint(0, 120), Qt.MouseButton.NoButton,
                            Qt.KeyboardModifier.ShiftModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
        QApplication.sendEvent(strip, event)
    quiet.settle()
    assert quiet.work.magnified == pytest.approx(256.0)
    assert height_of_wave(strip) > flat
    quiet.press("Alt+0")
    assert height_of_wave(strip) > 0.5 * strip.content_rect().height()
    assert "shows levels up to" in quiet.window.status.message.text()
    for _ in range(40):
        quiet.press("Ctrl+PgDown") if quiet.work.magnified > 1 else None
    assert quiet.work.magnified == 1.0
    assert height_of_wave(strip) == flat


def right_click(hands, strip, x, y):
    QTest.mouseClick(strip, Qt.MouseButton.RightButton, Qt.KeyboardModifier.NoModifier, QPoint(x, y))
    hands.settle()
    menu = QApplication.activePopupWidget()
    texts = [action.text() for action in menu.actions() if not action.isSeparator()]
    menu.close()
    return texts


def test_a_right_click_offers_what_can_be_done_there_and_a_right_drag_scrubs(surveyed):
    hands, strip = surveyed, surveyed.window.strips[1]
    finding = hands.work.listing().open_findings("clipping")[0]
    texts = right_click(hands, strip, round(strip.x_of((finding.start + finding.stop) / 2)), 26)
    assert hands.work.focus == finding
    assert {"Mend", "Keep"} <= set(texts)
    hands.window.bench.focus(None)
    hands.window.bench.select(1000, 9000)
    texts = right_click(hands, strip, round(strip.x_of(5000)), 100)
    assert {"Splice out", "Copy"} <= set(texts)
    assert hands.work.selection.span == (1000, 9000)
    assert not hands.window.listening.is_scrubbing
    heard = []
    hands.drag(strip, (300, 100), (340, 100), button="Right",
               on_the_way=lambda: heard.append(hands.window.listening.is_scrubbing))  # fmt: skip
    assert heard == [True]
    assert QApplication.activePopupWidget() is None


def test_undo_and_redo_name_what_they_take_back(surveyed):
    actions = surveyed.window.actions_.actions
    assert actions["undo"].text() == "Undo"
    surveyed.press("N")
    surveyed.press("K")
    assert actions["undo"].text() == "Undo: keep as it is"
    surveyed.press("Ctrl+Z")
    assert (actions["undo"].text(), actions["redo"].text()) == ("Undo", "Redo: keep as it is")


def test_a_command_is_found_by_a_word_of_it_with_its_key_and_why_it_is_off(hands, tmp_path):
    hands.open(write(tmp_path / "a.wav", faultless(1.0)))
    seen = {}

    def look(dialog):
        assert isinstance(dialog, CommandFinder)
        QTest.keyClicks(dialog.words, "undo")
        seen["off"] = dialog.list.item(0).text()
        QTest.keyClicks(dialog.words, " xylophone")
        seen["nothing"] = dialog.list.item(0).text()
        dialog.words.clear()
        QTest.keyClicks(dialog.words, "set marker")
        seen["found"] = dialog.list.item(0).text()
        QTest.keyClick(dialog.words, Qt.Key.Key_Return)

    hands.in_dialog(look)
    hands.press("Shift+F1")
    assert "There is nothing to undo." in seen["off"]
    assert seen["nothing"] == "No command has these words."
    assert "T" in seen["found"].split()
    assert len(hands.window.bench.work.history.markers) == 1


def test_the_bench_stands_as_it_was_left(hands, qtbot):
    window = hands.window
    hands.press("F7")
    window.tools.selecting.next_snap()
    window.tools.selecting.next_ruler()
    window.listening.set_loops(True)
    window.viewing.follows = False
    window.close()
    again = BenchWindow(SimulatedOutput())
    again.show()
    assert again.docket.isHidden()
    assert not again.treatment.isHidden()
    assert again.tools.selecting.snap is Snap.CROSSINGS
    assert again.tools.selecting.ruler is Ruler.SAMPLES
    assert again.listening.loops
    assert not again.viewing.follows
    again.shut_down()
    again.deleteLater()


def test_in_the_least_window_every_field_has_the_room_it_needs(hands, tmp_path):
    hands.open(write(tmp_path / "a.wav", faultless(2.0)))
    window = hands.window
    window.resize(1, 1)
    hands.press("F6")
    window.resize(window.minimumSizeHint())
    for prepare in (lambda: None, lambda: window.bench.select(20_000, 30_000), lambda: hands.press("W")):
        prepare()
        hands.settle()
        cramped = [
            f"{type(part).__name__} {part.accessibleName() or getattr(part, 'text', str)()}: {part.height()}"
            for kind in (QAbstractButton, QComboBox, QLineEdit, QScrollArea)
            for part in window.findChildren(kind)
            if part.isVisible() and part.height() < (part.minimumHeight() or part.minimumSizeHint().height())
        ]
        assert not cramped


def test_the_guide_is_read_beside_the_bench(hands):
    hands.press("Ctrl+F1")
    guide = hands.window.guide
    assert guide.isVisible()
    assert not guide.isModal()
    assert "The bench" in guide.pages.toPlainText()
    guide.close()


def test_no_letter_opens_two_menus_or_does_something_else(window):
    menus = [action.text() for action in window.menuBar().actions()]
    letters = [text[text.index("&") + 1].upper() for text in menus if "&" in text]
    assert len(letters) == len(set(letters)) >= len(menus) - 1
    keys = {key.toString() for action in window.actions_.actions.values() for key in action.shortcuts()}
    assert not {f"Alt+{letter}" for letter in letters} & keys


def test_no_two_commands_have_one_key(window):
    keys = [key for command in window.actions_.commands.values() for key in command.keys]
    assert len(keys) == len(set(keys))


@pytest.mark.parametrize("what", ["trim", "undo"])
def test_what_is_looked_at_stays_within_a_recording_that_became_shorter(quiet, what, capfd):
    work, bench = quiet.work, quiet.window.bench
    frames = work.frames
    if what == "undo":
        bench.commit(work, Edit("twice", (insert(work.version, frames, work.recording.source),)))
    bench.set_cursor(work.frames - 10)
    bench.select(work.frames - 200, work.frames - 20)
    bench.set_loupe(Window(work.frames - 96, work.frames))
    bench.set_passage(Window(work.frames - 900, work.frames))
    quiet.settle()
    if what == "trim":
        assert bench.commit(work, Edit("trim", (delete(work.version, 1, work.frames),)))
        quiet.settle()
    else:
        quiet.press("Ctrl+Z")
    assert max(work.passage.stop, work.loupe.stop) <= max(work.frames, 1)
    assert work.cursor <= work.frames
    assert work.selection is None
    assert "Traceback" not in capfd.readouterr().err
