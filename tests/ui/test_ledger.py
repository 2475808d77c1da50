from itertools import pairwise

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QHelpEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QToolTip

from tests.ui.conftest import Hands, has_color, mend_quickly
from umbrick.playback.simulated import SimulatedOutput
from umbrick.ui.window import BenchWindow


@pytest.fixture
def mended(surveyed):
    """Three findings mended one by one, each a line of the ledger."""
    mend_quickly(surveyed, 3)
    return surveyed


def row(hands, number):
    """The line of the ledger for the mend made as the ``number``th."""
    return hands.window.ledger.model.row_of(f"m{number}")


def click_line(hands, number, column=2, modifier=Qt.KeyboardModifier.NoModifier):
    table = hands.window.ledger.list
    rect = table.visualRect(hands.window.ledger.model.index(row(hands, number), column))
    hands.acts += 1
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, modifier, rect.center())
    hands.settle()


def sound(hands):
    return hands.work.version.read(0, hands.work.frames)


def test_last_weeks_mend_is_lifted_off_and_everything_since_kept(mended, hot, window, qtbot):
    """Job 18: that single mend lifted off, everything since kept, in at most three acts; after a restart."""
    before, path = sound(mended), hot[0]
    first = mended.work.history.entry("m1").mend
    window.opening.name_casebook(path.with_suffix(".casebook"))
    mended.settle()
    window.close()
    again = BenchWindow(SimulatedOutput())
    again.resize(1280, 800)
    again.show()
    hands = Hands(again, qtbot)
    again.open([path.with_suffix(".casebook")])
    qtbot.waitUntil(lambda: bool(again.bench.works))
    hands.settle()
    assert np.array_equal(sound(hands), before)
    hands.acts = 0
    hands.press("F6")
    click_line(hands, 1)
    assert again.bench.work.loupe.start <= first.start < again.bench.work.loupe.stop
    hands.press("Del")
    assert hands.acts <= 3
    after = sound(hands)
    changed = np.flatnonzero((after != before).any(axis=1))
    assert changed.min() >= first.start
    assert changed.max() < first.stop
    assert np.array_equal(after[first.start : first.stop], hands.work.history.original.read(first.start, first.stop))
    assert [entry.mend.id for entry in hands.work.history.ledger] == ["m2", "m3"]
    assert "Lifted off" in again.status.message.text()
    hands.press("Ctrl+Z")
    assert np.array_equal(sound(hands), before)
    again.close()
    again.deleteLater()


def test_a_mend_is_switched_off_and_on_by_its_box_and_by_key(mended, window):
    before = sound(mended)
    open_findings = len(mended.work.listing().open_rows)
    mended.press("F6")
    click_line(mended, 2, column=0)
    assert not mended.work.history.entry("m2").is_on
    assert not np.array_equal(sound(mended), before)
    assert len(mended.work.listing().open_rows) == open_findings + 1
    assert "1 switched off" in window.ledger.summary.text()
    mended.press("X")
    assert np.array_equal(sound(mended), before)


def test_changing_a_mends_settings_computes_it_again(mended, window):
    before, mend = sound(mended), mended.work.history.entry("m1").mend
    mended.press("F6")
    click_line(mended, 1)

    mended.press("E")
    page = window.treatment.made
    assert window.treatment.currentWidget() is page
    using = page.settings.fields["using"]
    assert using.currentData() == mend.parameters["using"]
    mended.type("loud\n", page.settings.fields["rail_dbfs"])
    assert "is a number from" in window.status.message.text()
    assert mended.work.history.entry("m1").mend is mend
    using.setCurrentIndex(using.findData("prediction"))
    using.activated.emit(using.currentIndex())
    mended.settle()
    entry = mended.work.history.ledger[-1]
    assert entry.mend.parameters["using"] == "prediction"
    assert (entry.mend.start, entry.mend.finding_ids) == (mend.start, mend.finding_ids)
    assert window.lifting.chosen == (entry.mend.id,)
    changed = np.flatnonzero((sound(mended) != before).any(axis=1))
    assert len(changed)
    assert mend.start <= changed.min()
    assert changed.max() < mend.stop


def test_restoring_the_selection_is_a_line_of_its_own_and_reopens_the_finding(mended, window):
    work = mended.work
    mend = work.history.entry("m1").mend
    finding = work.table.findings[work.table.rows[mend.finding_ids[0]]]
    window.bench.select(mend.start - 5, mend.stop + 5)
    mended.press("Ctrl+Backspace")
    assert np.array_equal(sound(mended)[mend.start : mend.stop], work.history.original.read(mend.start, mend.stop))
    assert work.history.ledger[-1].mend.method == "restore"
    assert work.state_of(finding).value == "open"
    window.lifting.choose(["m1"])
    mended.press("Del")
    assert "stands on it" in window.notices.text.text()
    mended.click(window.notices.buttons[0])
    assert [entry.mend.id for entry in work.history.ledger] == ["m2", "m3"]


def test_the_timing_debt_is_told_and_explained(mended, window):
    assert window.status.debt.text() == "Timing debt 0 ms"
    mended.click(window.status.debt)
    assert "no mend has changed the length" in window.notices.text.text()
    mended.click(window.notices.buttons[0])
    assert not window.notices.isVisible()


def test_the_provenance_row_shows_and_tells_what_was_rebuilt(mended, window):
    mend = mended.work.history.entry("m1").mend
    window.bench.set_passage(type(mended.work.passage)(mend.start - 400, mend.stop + 400))
    mended.settle()
    for strip in window.strips[:2]:
        top = strip.provenance_top()
        assert has_color(strip, strip.theme.mended, type(strip.content_rect())(0, top, strip.width(), 7))
        at = QPoint(round(strip.x_of((mend.start + mend.stop) / 2)), round(top + 3))
        QApplication.sendEvent(strip, QHelpEvent(QEvent.Type.ToolTip, at, strip.mapToGlobal(at)))
        assert QToolTip.text().startswith("rebuilt, ")
        QToolTip.hideText()
    mended.press("F6")
    assert "rebuilt 0." in window.ledger.summary.text()


def test_hundreds_of_mends_are_lifted_off_together_beside_the_window(surveyed, window, monkeypatch):
    from umbrick.ui.bench import lifting

    monkeypatch.setattr(lifting, "_AT_ONCE", 5)
    surveyed.window.mending.mend_all(surveyed.work.listing().open_findings())
    surveyed.settle()
    surveyed.press("F6")
    window.ledger.list.selectAll()
    surveyed.settle()
    assert len(window.lifting.chosen) == len(surveyed.work.history.ledger) > 5
    QTest.keyClick(window, Qt.Key.Key_Delete)
    assert surveyed.work.held
    surveyed.settle()
    assert surveyed.work.history.ledger == ()
    assert surveyed.work.version.key == surveyed.work.history.original.key
    assert not surveyed.work.held


def test_candidates_have_room_beside_an_open_ledger(surveyed, window):
    window.resize(1024, 700)
    surveyed.press("F6")
    surveyed.press("N")
    cards = [card.geometry() for card in window.treatment.finding.cards]
    assert len(cards) == 4
    assert all(upper.bottom() < lower.top() for upper, lower in pairwise(cards))
