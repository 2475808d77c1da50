import re
import time

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtTest import QTest

from tests.ui.conftest import focus_longest
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.table import FindingTable
from umbrick.playback.programme import Hearing
from umbrick.ui.panels.docket_model import DocketModel


def rows(window):
    model = window.docket.model
    return [model.index(row).data(DocketModel.ENTRY) for row in range(model.rowCount())]


def opened(hands):
    """Open the one group by the mark beside it."""
    window = hands.window
    place = window.docket.list.visualRect(window.docket.model.index(1))
    hands.click(window.docket.list.viewport(), 20, place.top() + 13)
    return rows(window)


def test_the_docket_lists_what_belongs_together_as_one_row_that_opens(surveyed, window):
    tops = surveyed.work.listing().open_findings()
    entries = rows(window)
    assert entries[0].name == "clipping"
    assert len(entries) == 2
    assert list(entries[1].findings) == tops
    spoken = window.docket.model.index(1).data(Qt.ItemDataRole.AccessibleTextRole)
    assert f"{len(tops)} tops; the worst: " in spoken
    assert "confidence" in spoken
    entries = opened(surveyed)
    assert entries[2:] == sorted(tops, key=lambda top: -top.severity)
    surveyed.press("Alt+N")
    assert len(opened(surveyed)) == 2, "and is shut again"
    assert len(surveyed.work.open_chosen()) == len(tops), "what was one of them is the group now"


def test_arrow_keys_open_a_group_and_shut_it(surveyed, window):
    surveyed.press("N")
    window.docket.list.setFocus()
    QTest.keyClick(window.docket.list, Qt.Key.Key_Right)
    assert len(rows(window)) > 2
    assert window.docket.list.currentIndex().row() == 1
    QTest.keyClick(window.docket.list, Qt.Key.Key_Down)
    assert surveyed.work.focus is rows(window)[2]
    assert surveyed.work.open_chosen() == [surveyed.work.focus]
    QTest.keyClick(window.docket.list, Qt.Key.Key_Up)
    QTest.keyClick(window.docket.list, Qt.Key.Key_Left)
    assert len(rows(window)) == 2


def test_a_click_in_the_docket_goes_to_the_finding(surveyed, window):
    opened(surveyed)
    index = window.docket.model.index(3)
    place = window.docket.list.visualRect(index).center()
    surveyed.click(window.docket.list.viewport(), place.x(), place.y())
    assert surveyed.work.focus is rows(window)[3]
    assert surveyed.work.loupe.start < surveyed.work.focus.start < surveyed.work.loupe.stop


def test_the_sensitivity_slider_sifts_at_once_without_measuring(surveyed, window):
    doubtful = Finding("x", "clipping", 5, 6, (0,), 0.1, 0.3, "1 flat sample at −40 dBFS")
    surveyed.work.found = FindingTable.of([*surveyed.work.table.findings, doubtful])
    window.bench.findings_changed.emit()
    count = len(opened(surveyed))
    assert doubtful not in rows(window)
    survey = surveyed.work.survey
    window.docket.sensitivity.setFocus()
    for _ in range(30):
        QTest.keyClick(window.docket.sensitivity, Qt.Key.Key_Right)
    assert doubtful in opened(surveyed)
    assert len(rows(window)) == count + 1
    assert surveyed.work.survey is survey
    window.docket.sensitivity.setValue(0)
    assert not any(isinstance(row, Finding) and row.confidence < 1 for row in rows(window))


def test_candidates_are_computed_and_chosen_by_number(surveyed, window):
    focus_longest(surveyed)
    cards = [card for card in window.treatment.finding.cards if card.isVisible()]
    assert len(cards) == 4
    offers = window.mending.offers
    assert all(offers.offers)
    peaks = set()
    for number in (1, 2, 3, 4):
        surveyed.press(str(number))
        assert offers.chosen == number - 1
        assert "chosen" in cards[number - 1].accessibleName()
        focus = surveyed.work.focus
        shown = window.viewing.shown_version(surveyed.work)
        peaks.add(abs(shown.read(focus.start, focus.stop)).max().item())
    assert len(peaks) >= 3
    surveyed.click(cards[0])
    assert offers.chosen == 0
    surveyed.press("Enter")
    mend = surveyed.work.history.mends[0]
    assert mend.parameters["using"] == "auto"


def test_the_panel_says_what_the_mend_does_to_time_and_level(surveyed, window):
    focus_longest(surveyed)
    assert "Time: unchanged." in window.treatment.finding.effect.text()
    assert "Saving offers to lower all by" in window.treatment.finding.effect.text()


def test_what_cannot_be_done_says_why(window, hands, hot):
    actions = window.actions_.actions
    assert not actions["survey"].isEnabled()
    assert "Open a recording first" in actions["survey"].toolTip()
    hands.open(hot[0])
    assert "Survey first" in actions["next"].toolTip()
    assert "Choose a finding first" in actions["mend"].toolTip()
    hands.press("F5")
    hands.press("N")
    hands.press("K")
    hands.press("Ctrl+Z")
    assert actions["mend"].isEnabled()
    hands.press("Enter")
    window.bench.focus(next(f for f in hands.work.table.findings if hands.work.state_of(f) is State.MENDED))
    assert "mended already" in actions["mend"].toolTip()


def test_a_key_that_can_do_nothing_now_says_why(surveyed, window):
    for keys in ("Shift+F4", "Ctrl+Z", "F2"):
        surveyed.press(keys)
        reason = window.actions_.why_not(QKeySequence(keys))
        assert reason
        assert window.status.message.text() == reason
    surveyed.press("N")
    assert surveyed.work.focus is not None


def test_every_command_has_its_own_keys_and_a_hint(window):
    keys = [key for command in window.actions_.commands.values() for key in command.keys]
    assert len(keys) == len(set(keys))
    for command in window.actions_.commands.values():
        assert command.hint
        assert window.actions_.actions[command.name].toolTip()


def test_the_sheet_of_keys_lists_every_command_that_has_one(window, hands):
    from PySide6.QtWidgets import QLabel

    seen = []

    def read(dialog):
        seen.extend(label.text() for label in dialog.findChildren(QLabel))
        dialog.reject()

    hands.in_dialog(read)
    hands.press("F1")
    for command in window.actions_.commands.values():
        if command.keys:
            assert command.text.rstrip("…") in seen


def test_play_stop_and_the_meters(surveyed, window, qtbot):
    surveyed.press("Space")
    assert window.listening.is_playing
    qtbot.waitUntil(lambda: window.viewing.playhead is not None and window.viewing.playhead > 4000)
    assert "−∞" not in window.header.meter.text.split("·")[0]
    surveyed.press("Space")
    qtbot.waitUntil(lambda: not window.listening.is_playing)
    assert window.viewing.playhead is None
    QTest.mouseClick(window.header.meter, Qt.MouseButton.LeftButton)
    assert "peak −∞" in window.header.meter.text


def test_before_after_and_residue_are_switched_while_playing(surveyed, window, qtbot):
    surveyed.press("N")
    surveyed.press("L")
    surveyed.press("Space")
    loop = window.listening.engine.programme.loop
    focus = surveyed.work.focus
    assert loop[0] < focus.start < focus.stop < loop[1]
    for key, hearing in (("B", Hearing.BEFORE), ("B", Hearing.AFTER), ("R", Hearing.RESIDUE), ("R", Hearing.AFTER)):
        place = window.listening.engine.position
        surveyed.press(key)
        assert window.listening.hearing is hearing
        assert window.header.hear_buttons[hearing].isChecked()
        assert window.listening.is_playing
        assert loop[0] <= window.listening.engine.position < loop[1]
        assert place >= 0
    surveyed.press("Space")


def test_matched_loudness_lowers_the_louder_one_only(surveyed, window, qtbot):
    surveyed.in_dialog(lambda dialog: QTest.keyClick(dialog, Qt.Key.Key_Return))
    surveyed.press("Shift+Enter")
    surveyed.press("M")
    trims = dict(window.listening.engine.programme.trims_db)
    assert max(trims.values()) == 0.0
    assert min(trims.values()) < 0.0
    assert window.actions_.actions["match"].isChecked()
    surveyed.press("M")
    assert window.listening.engine.programme.trims_db == ()


def test_playing_is_lowered_so_that_rebuilt_peaks_fit(surveyed, window):
    focus_longest(surveyed)
    assert window.listening.engine.programme.gain_db < 0


def test_a_survey_can_be_stopped_and_keeps_what_came(hands, tmp_path, window, qtbot):
    import numpy as np

    from tests.sounds import clipped, faultless, write

    sound = np.tile(clipped(faultless(10.0), 0.004)[0], (30, 1))
    hands.open(write(tmp_path / "long.wav", sound))
    window.surveying.start()
    qtbot.waitUntil(lambda: len(rows(window)) > 0, timeout=10_000)
    # On a slow machine the estimate of the time left is there by now.
    assert re.fullmatch(r"Surveying( · about \d+ (s|min) left)?", window.status.job.text())
    assert window.docket.progress.isVisible()
    QTest.keyClick(window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: window.surveying.job is None, timeout=10_000)
    assert "what came is listed" in window.status.message.text()
    assert hands.work.survey.frames < hands.work.frames
    assert hands.work.listing().open_findings()


def test_panels_and_theme_are_toggled_and_remembered(hands, window):
    hands.press("F7")
    hands.press("F8")
    assert window.docket.isHidden()
    assert window.treatment.isHidden()
    hands.press("F9")
    assert window.is_dusk()
    window.store()
    from umbrick.playback.simulated import SimulatedOutput
    from umbrick.ui.window import BenchWindow

    other = BenchWindow(SimulatedOutput())
    assert other.is_dusk()
    other.shut_down()
    hands.press("F9")
    assert not window.is_dusk()


@pytest.mark.parametrize("name", ["daylight", "dusk"])
def test_text_contrast_is_enough(name):
    from PySide6.QtGui import QColor

    from umbrick.ui.theme import THEMES

    def luminance(color):
        channels = [QColor(color).redF(), QColor(color).greenF(), QColor(color).blueF()]
        linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    theme = THEMES[name]
    for ink in ("ink", "faint", "wrong", "mended"):
        for ground in ("paper", "desk", "raised"):
            pair = sorted((luminance(getattr(theme, ink)), luminance(getattr(theme, ground))))
            assert (pair[1] + 0.05) / (pair[0] + 0.05) >= 4.5, (ink, ground)


def test_the_interface_stays_free_while_work_goes_on(surveyed, window, qtbot):
    ticks = []
    from PySide6.QtCore import QTimer

    timer = QTimer(interval=5)
    timer.timeout.connect(lambda: ticks.append(time.monotonic()))
    timer.start()
    window.mending.mend_all(surveyed.work.listing().open_findings())
    qtbot.waitUntil(lambda: window.mending.job is None and not surveyed.work.held, timeout=60_000)
    assert len(ticks) > 3
    assert all(surveyed.work.state_of(f) is State.MENDED for f in surveyed.work.table.findings)


def test_a_sentence_without_room_ends_in_dots_and_its_tip_has_all_of_it(surveyed, window):
    status, long = (
        window.status,
        "Mended 346 places. " + "Peaks reach +5.1 dBFS; saving offers to lower all by 6 dB. " * 3,
    )
    window.bench.said.emit("Ready.")
    assert status.message.shown == "Ready."
    before = status.message.grab().toImage()
    window.bench.failed.emit(long)
    assert status.message.shown.endswith("…")
    assert long.startswith(status.message.shown[:-1])
    assert status.message.toolTip() == status.message.text() == long
    drawn = status.message.grab().toImage()
    assert drawn != before
    red = [drawn.pixelColor(x, y) for x in range(drawn.width()) for y in range(drawn.height())]
    assert any(colour.red() > 1.5 * colour.blue() and colour.red() > 120 and colour.green() < 110 for colour in red)


def test_the_window_is_no_larger_than_its_screen_but_large_enough_to_work_in(window):
    room = window.screen().availableGeometry().size()
    window.resize(room.width() + 600, room.height() + 600)
    window.fit_into_screen()
    assert window.height() < room.height() or window.height() == window.minimumHeight()
    assert window.width() < room.width() or window.width() == window.minimumWidth()
    window.resize(window.minimumSize())
    window.fit_into_screen()
    assert window.size() == window.minimumSize()
