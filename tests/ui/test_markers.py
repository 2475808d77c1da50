import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from tests.core.sound.test_metadata import with_chunks
from tests.sounds import RATE, voice, write
from umbrick.core.sound.cues import Cue, read_cues


@pytest.fixture
def opened(hands, tmp_path):
    hands.open(write(tmp_path / "a.wav", voice(3.0)))
    return hands


def places(hands):
    return [(p.start, p.stop, p.marker.name) for p in hands.window.controllers.marking.placed()]


def flag(hands, name):
    return next(rect for rect, placed in hands.window.strips[1].flags if placed.marker.name == name)


def name_it(hands, name, note=""):
    def type_it(dialog):
        dialog.name.selectAll()
        QTest.keyClicks(dialog.name, name)
        QTest.keyClicks(dialog.note, note)
        QTest.keyClick(dialog.name, Qt.Key.Key_Return)

    hands.in_dialog(type_it)
    hands.press("Ctrl+T")


def test_markers_are_set_named_stepped_dragged_and_deleted(opened, window):
    bench = window.bench
    bench.set_cursor(RATE)
    opened.press("T")
    name_it(opened, "gate", "creaks")
    bench.select(2 * RATE, 2.5 * RATE)
    opened.press("T")
    assert places(opened) == [(RATE, RATE, "gate"), (2 * RATE, 2.5 * RATE, "Marker 2")]
    bench.select(0, 0)
    opened.press("Home")
    opened.press("BracketRight")
    assert opened.work.cursor == RATE
    assert "gate — creaks" in window.status.message.text()
    opened.press("BracketRight")
    assert opened.work.cursor == 2 * RATE
    opened.press("BracketLeft")
    window.strips[1].repaint()
    at, passage = flag(opened, "gate").center(), window.strips[1]
    opened.drag(passage, (at.x(), at.y()), (at.x() + 100, at.y()))
    moved = places(opened)[0][0]
    assert moved == pytest.approx(RATE + 100 * opened.work.passage.length / passage.width(), abs=300)
    opened.press("Shift+T")
    assert [name for *_, name in places(opened)] == ["Marker 2"]
    opened.press("Ctrl+Z")
    opened.press("Ctrl+Z")
    assert places(opened)[0] == (RATE, RATE, "gate")


def test_shift_and_drag_moves_the_end_of_a_span(opened, window):
    window.bench.select(RATE, 1.5 * RATE)
    opened.press("T")
    passage = window.strips[1]
    passage.repaint()
    at = flag(opened, "Marker 1").center().toPoint()
    target = QPoint(round(passage.x_of(2 * RATE)), at.y())
    QTest.mousePress(passage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, at)
    QTest.mouseMove(passage, target)
    QTest.mouseRelease(passage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, target)
    opened.settle()
    start, stop, _ = places(opened)[0]
    assert start == RATE
    assert stop == pytest.approx(2 * RATE, abs=300)


def test_markers_go_out_and_come_in_as_a_table_and_as_cue_points(opened, window, tmp_path):
    for second in (0.5, 1.0):
        window.bench.set_cursor(second * RATE)
        opened.press("T")
    before = places(opened)
    window.controllers.marking.write_table(tmp_path / "markers.csv")
    opened.settle()
    for _ in range(2):
        opened.press("Ctrl+Z")
    assert places(opened) == []
    window.controllers.marking.take_in(tmp_path / "markers.csv")
    opened.settle()
    assert places(opened) == before
    window.controllers.marking.take_in(with_chunks(write(tmp_path / "cues.wav", voice(1.0))))
    opened.settle()
    assert (100, 100, "gate") in places(opened)
    window.controllers.marking.take_in(tmp_path / "a.wav")
    opened.settle()
    assert "holds no cue points" in window.status.message.text()


def test_markers_and_notes_come_back_with_the_recording(surveyed, window, hot):
    surveyed.press("N")
    surveyed.in_dialog(lambda dialog: (QTest.keyClicks(dialog.note, "her cup"), dialog.accept()))
    surveyed.press("Ctrl+E")
    assert "¶ her cup" in window.treatment.finding.detail.text()
    surveyed.press("T")
    name, focus = surveyed.work.history.markers, surveyed.work.focus.id
    surveyed.press("Ctrl+W")
    surveyed.open(hot[0])
    assert surveyed.work.history.markers == name
    assert surveyed.work.history.notes == {focus: "her cup"}


def test_markers_stay_with_their_sound_when_the_length_changes(opened, window):
    from umbrick.core.timeline.change import delete
    from umbrick.core.timeline.history import Edit

    window.controllers.marking.add(opened.work, [Cue(2 * RATE, 0, "bell")], "here")
    window.bench.commit(opened.work, Edit("cut", (delete(opened.work.version, 0, 1000),)))
    assert places(opened) == [(2 * RATE - 1000, 2 * RATE - 1000, "bell")]
    assert np.array_equal(opened.work.version.read(2 * RATE - 1000, 2 * RATE),
                          opened.work.history.original.read(2 * RATE, 2 * RATE + 1000))  # fmt: skip


def test_cue_points_of_an_opened_file_are_offered_once_and_go_out_again(hands, window, tmp_path):
    hands.open(with_chunks(write(tmp_path / "cues.wav", voice(1.0))))
    assert "has 1 cue point" in window.notices.text.text()
    hands.click(window.notices.buttons[0])
    assert places(hands) == [(100, 100, "gate")]
    window.bench.set_cursor(4800)
    hands.press("T")
    hands.in_dialog(lambda dialog: dialog.accept_button.click())
    hands.press("Ctrl+S")
    assert read_cues(tmp_path / "cues-mended.wav") == [Cue(100, 0, "gate"), Cue(4800, 0, "Marker 2")]
    hands.press("Ctrl+W")
    hands.open(tmp_path / "cues.wav")
    assert not window.notices.isVisible()
