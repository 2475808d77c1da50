"""The docket with many kinds: sifting, stepping, choosing several, measuring again, handing on."""

import json

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from tests.core.survey.test_kinds import speech
from tests.sounds import RATE, write
from tests.ui.conftest import has_color
from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Finding, State
from umbrick.ui.panels.docket_model import DocketModel
from umbrick.work.sieve import Sieve

SPIKES = [3 * RATE + 3210, 5 * RATE + 100, 7 * RATE + 900]
HOLE = round(3.93 * RATE)


def faulty():
    """Words with three wrong samples, a hole and hum."""
    sound = speech(9.0)
    for at in SPIKES:
        sound[at] += 0.4
    sound[HOLE : HOLE + 960] = 0
    t = np.arange(len(sound)) / RATE
    hum = sum(level * np.sin(2 * np.pi * 50 * k * t + k) for k, level in enumerate((1, 0.5, 0.7), 1))
    return sound + 0.002 * hum[:, np.newaxis]


@pytest.fixture
def docket(hands, tmp_path):
    hands.open(write(tmp_path / "faulty.wav", faulty()))
    hands.press("F5")
    return hands


def entries(window):
    model = window.docket.model
    return [model.index(row).data(DocketModel.ENTRY) for row in range(model.rowCount())]


def kinds(window):
    return [entry.name for entry in entries(window) if isinstance(entry, Kind)]


def shown(window):
    return [entry for entry in entries(window) if isinstance(entry, Finding)]


def double_click(hands, widget, place):
    hands.click(widget, place.x(), place.y())
    QTest.mouseDClick(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, place)
    hands.settle()


def test_hum_under_everything_makes_no_single_sample_wrong(docket, window):
    docket.press("Home")
    assert not has_color(window.loupe, window.theme.wrong)


def test_kinds_are_listed_and_stepped_through_and_what_means_all_comes_last(docket, window):
    assert kinds(window) == ["click", "dropout", "hum"]
    visited = []
    for _ in range(5):
        docket.press("N")
        visited.append(docket.work.focus.kind)
    assert visited == ["click", "dropout", "click", "click", "hum"]
    passage = docket.work.passage
    assert passage.length < docket.work.frames, "hum has no place to go to"
    docket.press("N")
    assert docket.work.focus.start == SPIKES[0]
    docket.press("Ctrl+N")
    assert docket.work.focus.kind == "dropout"
    docket.press("Ctrl+N")
    docket.press("Ctrl+N")
    assert docket.work.focus.kind == "click"


def test_a_few_words_sift_what_is_shown_and_stepped_through(docket, window):
    docket.press("Ctrl+F")
    assert QApplication.focusWidget() is window.docket.search
    docket.type("hole")
    assert shown(window) == []
    docket.type("without signal", window.docket.search)
    assert [finding.start for finding in shown(window)] == [HOLE]
    assert "4 not shown" in window.docket.counts.text()
    docket.type("click >50", window.docket.search)
    assert [finding.start for finding in shown(window)] == SPIKES
    assert [f.start for f in docket.work.listing().within(0, docket.work.frames)] == SPIKES
    docket.type("\n")
    assert QApplication.focusWidget() is window.docket.list
    assert docket.work.focus.start == SPIKES[0]
    docket.press("N")
    docket.press("N")
    assert docket.work.focus.start == SPIKES[2]
    docket.press("N")
    assert docket.work.focus.start == SPIKES[0]
    window.docket.search.setFocus()
    QTest.keyClick(window.docket.search, Qt.Key.Key_Escape)
    docket.settle()
    assert window.docket.search.text() == ""
    assert len(shown(window)) == 5


@pytest.mark.parametrize(
    ("text", "sieve"),
    [
        ("", Sieve()),
        ("Kept open", Sieve((), (State.KEPT, State.OPEN))),
        (">80% <95 flat", Sieve(("flat",), (), 0.8, 0.95)),
        ("mended >100", Sieve((), (State.MENDED,), 1.0)),
    ],
)
def test_what_is_typed_is_understood(text, sieve):
    assert Sieve.parsed(text) == sieve
    assert Sieve.parsed(text).lets_all_pass == (not text)


def test_each_kind_has_a_sensitivity_of_its_own(docket, window):
    heading = next(row for row, entry in enumerate(entries(window)) if getattr(entry, "name", "") == "dropout")
    place = window.docket.list.visualRect(window.docket.model.index(heading)).center()
    docket.click(window.docket.list.viewport(), place.x(), place.y())
    assert "Dropouts" in window.docket.sensitivity_label.text()
    window.docket.sensitivity.setValue(0)
    docket.settle()
    assert [f.confidence for f in shown(window) if f.kind == "dropout"] in ([], [1.0])
    assert docket.work.sensitivity == {"dropout": 0.0}
    docket.press("N")
    assert "Clicks" in window.docket.sensitivity_label.text()
    assert window.docket.sensitivity.value() == 50


def test_a_kind_can_be_shut_and_the_worst_listed_first(docket, window):
    place = window.docket.list.visualRect(window.docket.model.index(0)).center()
    double_click(docket, window.docket.list.viewport(), place)
    assert [finding.kind for finding in shown(window)] == ["dropout", "hum"]
    docket.press("N")
    assert docket.work.focus.start == SPIKES[0], "what is shut is still stepped through"
    double_click(docket, window.docket.list.viewport(), place)
    docket.press("Ctrl+J")
    severities = [finding.severity for finding in shown(window)[:3]]
    assert severities == sorted(severities, reverse=True)
    assert window.docket.list.currentIndex().data(DocketModel.ENTRY) is docket.work.focus


def test_several_are_chosen_and_kept_in_one_step(docket, window):
    model = window.docket.model
    for row, modifier in ((1, Qt.KeyboardModifier.NoModifier), (3, Qt.KeyboardModifier.ShiftModifier)):
        place = window.docket.list.visualRect(model.index(row)).center()
        docket.click(window.docket.list.viewport(), place.x(), place.y(), modifier)
    docket.press("K")
    listing = docket.work.listing()
    assert listing.count(State.KEPT) == 3
    docket.press("Ctrl+Z")
    assert docket.work.listing().count(State.KEPT) == 0


def test_what_a_mend_takes_away_is_closed_and_what_stays_is_not(docket, window):
    bench = window.bench
    bench.select(SPIKES[1] - 2, SPIKES[1] + 3)
    docket.press("Y")
    docket.settle()
    states = {f.start: docket.work.state_of(f) for f in docket.work.table.findings if f.kind == "click"}
    assert states[SPIKES[1]] is State.MENDED
    assert states[SPIKES[0]] is states[SPIKES[2]] is State.OPEN
    bench.select(SPIKES[2] - 2000, SPIKES[2] + 2000)
    window.tools.handwork.level(-2.0)
    docket.settle()
    focus = next(f for f in docket.work.table.findings if f.start == SPIKES[2])
    assert docket.work.state_of(focus) is State.OPEN, "levelling does not take a wrong sample away"
    docket.press("Ctrl+Z")
    docket.press("Ctrl+Z")
    assert all(docket.work.state_of(f) is State.OPEN for f in docket.work.table.findings)


def test_a_click_one_has_come_to_is_redrawn_whole_and_nothing_else_is(docket, window):
    docket.press("N")
    before = docket.work.version.read(0, docket.work.frames)
    docket.press("Y")
    after = docket.work.version.read(0, docket.work.frames)
    assert np.flatnonzero((before != after).any(axis=1)).tolist() == [SPIKES[0]]
    assert docket.work.state_of(docket.work.focus) is State.MENDED


def test_just_the_selection_is_surveyed_again(docket, window):
    before = [(f.kind, f.start) for f in docket.work.table.findings]
    window.bench.select(SPIKES[0] - RATE, SPIKES[0] + RATE // 2)
    docket.press("Shift+F5")
    after = docket.work.table.findings
    assert [(f.kind, f.start) for f in after if docket.work.found.findings] == [
        place for place in before if place in [(f.kind, f.start) for f in after]
    ]
    again = next(f for f in after if f.start == SPIKES[0])
    assert again.id.startswith("2.")
    assert next(f for f in after if f.start == SPIKES[2]).id.startswith("1.")
    assert any(f.kind == "hum" for f in after)


def test_findings_are_listened_to_on_arrival(docket, window):
    docket.press("Ctrl+Shift+N")
    docket.press("N")
    assert window.listening.engine.is_playing
    assert 0 <= window.listening.engine.position - (SPIKES[0] - RATE // 2) < 3 * RATE
    docket.press("Space")
    docket.press("Ctrl+Shift+N")
    docket.press("N")
    assert not window.listening.engine.is_playing


@pytest.mark.parametrize("suffix", ["csv", "json"])
def test_what_is_shown_is_handed_on(docket, window, tmp_path, monkeypatch, suffix):
    path = tmp_path / f"out.{suffix}"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(path), ""))
    window.bench.set_sieve("click")
    window.actions_.actions["findings_out"].trigger()
    docket.settle()
    if suffix == "csv":
        assert [line.split(",")[2] for line in path.read_text().splitlines()[1:]] == ["click"] * 3
    else:
        (recording,) = json.loads(path.read_text())["recordings"]
        assert [finding["start"] for finding in recording["findings"]] == SPIKES
        assert recording["measures"]["hum_hz"] == pytest.approx(50, abs=0.02)


def test_findings_become_markers_in_one_step(docket, window):
    window.bench.set_sieve("click")
    window.actions_.actions["mark_findings"].trigger()
    docket.settle()
    markers = docket.work.history.markers
    assert [marker.start for marker in markers] == SPIKES
    assert all(marker.name.startswith("Clicks: ") for marker in markers)
    docket.press("Ctrl+Z")
    assert not docket.work.history.markers


def test_a_level_step_is_levelled_by_one_key(hands, tmp_path):
    sound = speech(24.0)
    sound[8 * RATE : 16 * RATE] *= 0.2
    hands.open(write(tmp_path / "stepped.wav", sound))
    hands.press("F5")
    hands.window.bench.focus(hands.work.listing().open_findings("level_step")[0])
    hands.settle()
    before = hands.work.version.read(0, hands.work.frames)
    hands.press("Enter")
    hands.settle()
    assert len(hands.work.listing().open_findings("level_step")) == 1  # its other end, until it is surveyed again
    after = hands.work.version.read(0, hands.work.frames)
    assert np.array_equal(after[: 7 * RATE], before[: 7 * RATE])
    assert np.array_equal(after[17 * RATE :], before[17 * RATE :])
    inside = slice(9 * RATE, 15 * RATE)
    assert 20 * np.log10(after[inside].std() / before[inside].std()) == pytest.approx(14, abs=1)
    hands.window.bench.focus(hands.work.listing().open_findings("level_step")[0])
    hands.settle()
    assert "Nothing is left to mend here" in hands.window.mending.reason_not_to_mend()
    assert "Nothing is left to mend here" in hands.window.treatment.finding.detail.text()
    hands.press("Enter")
    assert np.array_equal(hands.work.version.read(0, hands.work.frames), after)
    hands.press("F5")
    assert hands.work.listing().open_findings("level_step") == []


def test_an_intrusion_is_taken_out_in_its_area(hands, window, tmp_path):
    sound = 0.5 * speech(16.0)
    at = np.arange(2 * RATE) / RATE
    bell = np.minimum(1, np.minimum(at, 2 - at) / 0.05)
    sound[6 * RATE : 8 * RATE, 0] += 0.05 * bell * np.sin(2 * np.pi * 3100 * at)
    hands.open(write(tmp_path / "whistle.wav", sound))
    hands.press("F5")
    (finding,) = hands.work.listing().open_findings("intrusion")
    hands.window.bench.focus(finding)
    hands.settle()
    assert "Rebuild" in window.treatment.finding.cards[0].accessibleName()
    before = hands.work.version.read(0, hands.work.frames)[:, 0]
    hands.press("Return")
    hands.settle()
    (mend,) = hands.work.history.mends
    assert mend.method == "area"
    assert mend.finding_ids == (finding.id,)
    after = hands.work.version.read(0, hands.work.frames)[:, 0]
    assert np.array_equal(after[: 5 * RATE], before[: 5 * RATE])

    def tone(wave):
        return np.abs(np.sum(wave[6 * RATE + RATE // 2 : 7 * RATE + RATE // 2] * np.exp(2j * np.pi * 3100 * at[:RATE])))

    assert tone(after) < 0.01 * tone(before)


def test_what_no_method_mends_says_so(docket, window):
    for _ in range(5):  # hum means all of the recording and comes last
        docket.press("N")
    assert docket.work.focus.kind == "hum"
    assert not window.actions_.actions["mend"].isEnabled()
    assert "over all of the recording" in window.mending.reason_not_to_mend()
    docket.press("Shift+Return")
    assert "over all of the recording" in window.status.message.text()


def test_before_any_finding_is_chosen_the_next_and_the_first_listed_are_meant(hands, window, tmp_path):
    hands.open(write(tmp_path / "humming.wav", faulty()))
    hands.press("F5")
    assert hands.work.listing().open_findings()[0].kind == "hum"
    assert "Clicks" in window.docket.sensitivity_label.text()
    asked = []
    hands.in_dialog(lambda dialog: (asked.extend(dialog.included()), dialog.reject()))
    hands.press("Shift+Enter")
    assert sorted(finding.start for finding in asked) == SPIKES
    assert "no method" not in window.status.message.text()


def test_enter_after_words_goes_to_what_is_shown_and_mends_nothing(docket, window):
    docket.press("N")
    assert docket.work.focus.kind == "click"
    docket.press("Ctrl+F")
    docket.type("without signal\n")
    assert docket.work.history.mend_count == 0
    assert docket.work.focus.kind == "dropout"
    assert QApplication.focusWidget() is window.docket.list
    docket.press("Ctrl+F")
    docket.type("nothing like it\n", window.docket.search)
    assert docket.work.history.mend_count == 0
    assert window.docket.counts.text().count("·") == 1
    assert "not shown" in window.docket.counts.text()


def test_the_finding_in_focus_stays_in_view_when_the_ledger_takes_its_room(hands, window, tmp_path):
    sound = speech(9.0)
    for at in range(round(0.9 * RATE), round(8.5 * RATE), round(0.4 * RATE)):
        sound[at] += 0.4
    hands.open(write(tmp_path / "ticking.wav", sound))
    hands.press("F5")
    window.resize(1280, window.minimumSizeHint().height())
    rows = window.docket.list
    visible_at_most = rows.viewport().height() // rows.sizeHintForRow(1)
    for _ in range(visible_at_most):
        hands.press("N")
    hands.press("F6")
    assert window.docket.list.viewport().rect().contains(rows.visualRect(rows.currentIndex()))
