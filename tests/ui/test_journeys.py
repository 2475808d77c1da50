"""Whole jobs, as a person does them, within the number of acts they may take."""

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from tests.ui.conftest import focus_longest
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.table import FindingTable
from umbrick.playback.programme import Hearing
from umbrick.ui.dialogs.mend_all_dialog import MendAllDialog
from umbrick.ui.dialogs.save_dialog import SaveDialog
from umbrick.ui.panels.docket_model import DocketModel


def accept(hands, kind):
    def do(dialog):
        assert isinstance(dialog, kind)
        hands.press("Enter", dialog)

    return do


def test_an_interview_recorded_too_hot_in_seven_acts(hands, hot, tmp_path):
    """All clipping listed with a prognosis, rebuilt, a level that fits, heard, saved."""
    path, truth, mask = hot
    hands.open(path)
    hands.acts = 0

    hands.press("F5")
    assert hands.work.listing().open_findings()
    assert "clipped" in hands.window.docket.prognosis.text()

    hands.in_dialog(accept(hands, MendAllDialog))
    hands.press("Shift+Enter")
    assert not hands.work.listing().open_findings()
    assert hands.work.peak > 1.0
    assert "saving offers to lower all by" in hands.window.status.message.text()

    hands.press("Space")
    assert hands.window.listening.is_playing
    hands.press("Shift+B")
    assert hands.window.listening.matches_loudness
    assert hands.window.listening.hearing is Hearing.BEFORE
    assert hands.window.header.hear_buttons[Hearing.BEFORE].isChecked()

    hands.in_dialog(accept(hands, SaveDialog))
    hands.press("Ctrl+S")
    # One for the survey, two for mending all, two for listening, two for saving: each sheet's Return included.
    assert hands.acts == 7
    saved = tmp_path / "hot-mended.wav"
    assert f"Saved {saved.name}" in hands.window.status.message.text()
    after, rate = soundfile.read(saved, always_2d=True)
    before, _ = soundfile.read(path, always_2d=True)
    assert (rate, soundfile.info(saved).subtype) == (48000, "PCM_24")
    gain = np.median(after[~mask & (np.abs(before) > 0.1)] / before[~mask & (np.abs(before) > 0.1)])
    assert np.abs(after).max() < 1.0
    assert np.square(truth - after / gain)[mask].sum() < 0.25 * np.square(truth - before)[mask].sum()
    assert not hands.work.has_unsaved_mends


def test_findings_one_by_one_with_keys_only(surveyed):
    hands = surveyed
    total = len(hands.work.listing().open_findings())
    hands.press("Alt+N")
    first = hands.work.focus
    assert first is hands.work.listing().open_findings()[0]
    assert hands.work.loupe.start < first.start < first.stop < hands.work.loupe.stop
    assert hands.window.docket.list.currentIndex().data(DocketModel.ENTRY) is first
    assert "flat sample" in hands.window.treatment.finding.detail.text()
    hands.press("Enter")
    assert hands.work.state_of(first) is State.MENDED
    second = hands.work.focus
    assert second is hands.work.listing().open_findings()[0]
    hands.press("K")
    assert hands.work.state_of(second) is State.KEPT
    hands.press("Alt+Shift+N")
    assert hands.work.focus is hands.work.listing().open_findings()[-1]
    assert len(hands.work.listing().open_findings()) == total - 2
    assert "1 mended" in hands.window.docket.counts.text()
    assert "1 kept" in hands.window.docket.counts.text()


def test_a_passage_is_mended_at_once_but_for_what_is_kept(surveyed):
    hands = surveyed
    tops = hands.work.listing().open_findings()
    hands.press("Alt+N")
    exception = hands.work.focus
    hands.press("K")
    hands.press("N")
    assert hands.work.focus is max(hands.work.listing().open_findings(), key=lambda top: top.severity)
    assert f"all {len(tops) - 1} of them" in hands.window.treatment.finding.detail.text()
    hands.press("Enter")
    hands.settle()
    assert hands.work.listing().open_findings() == []
    assert hands.work.listing().count(State.KEPT) == 1
    assert hands.work.state_of(exception) is State.KEPT
    before = hands.work.recording.source.read(exception.start, exception.stop)
    assert np.array_equal(hands.work.version.read(exception.start, exception.stop), before)
    hands.press("Ctrl+Z")
    assert len(hands.work.listing().open_findings()) == len(tops) - 1


def test_a_passage_is_kept_at_once(surveyed):
    hands = surveyed
    tops = hands.work.listing().open_findings()
    hands.press("N")
    hands.press("K")
    assert hands.work.listing().count(State.KEPT) == len(tops)
    hands.press("Ctrl+Z")
    assert hands.work.listing().count(State.OPEN) == len(tops)


def test_undo_and_redo_bring_back_samples_and_states(surveyed):
    hands = surveyed
    before = hands.work.version.read(0, hands.work.frames)
    finding = focus_longest(hands)
    hands.press("Enter")
    mended = hands.work.version.read(0, hands.work.frames)
    changed = np.flatnonzero((before != mended).any(axis=1))
    assert finding.start <= changed.min() <= changed.max() < finding.stop
    hands.press("Ctrl+Z")
    assert hands.work.focus is finding
    assert hands.work.state_of(finding) is State.OPEN
    assert np.array_equal(hands.work.version.read(0, hands.work.frames), before)
    assert "Undone" in hands.window.status.message.text()
    hands.press("Ctrl+Shift+Z")
    assert hands.work.state_of(finding) is State.MENDED
    assert np.array_equal(hands.work.version.read(0, hands.work.frames), mended)


def test_exceptions_are_left_out_of_mending_all(surveyed):
    hands = surveyed
    tops, middle = hands.work.listing().open_findings(), hands.work.frames // 2
    first = [top for top in tops if top.stop < middle - hands.work.rate // 4]
    findings = [*first, *(top for top in tops if top.start > middle + hands.work.rate // 4)]
    hands.work.found = FindingTable.of(findings)
    hands.window.bench.findings_changed.emit()

    def leave_out_first(dialog):
        assert dialog.choices.rowCount() == 2, "tops that belong together are one"
        row = dialog.list.visualRect(dialog.choices.index(0))
        QTest.mouseClick(dialog.list.viewport(), Qt.MouseButton.LeftButton, pos=row.topLeft() + QPoint(10, 10))
        assert f"{len(findings) - len(first)} places" in dialog.count.text()
        assert f"{len(first)} left out" in dialog.count.text()
        dialog.mend_button.click()

    hands.in_dialog(leave_out_first)
    hands.press("Shift+Enter")
    assert hands.work.listing().open_findings() == first
    hands.press("Ctrl+Z")
    assert len(hands.work.listing().open_findings()) == len(findings)


def test_doubtful_findings_can_be_left_out_by_confidence(surveyed):
    hands = surveyed
    doubtful = Finding("d", "clipping", 11, 12, (0,), 0.2, 0.55, "1 flat sample at −40 dBFS")
    hands.work.found = FindingTable.of([*hands.work.table.findings, doubtful])
    hands.window.bench.findings_changed.emit()

    def type_a_limit(dialog):
        QTest.keyClicks(dialog.filter, "eighty")
        assert dialog.filter.property("wrong")
        dialog.filter.clear()
        QTest.keyClicks(dialog.filter, "80 %")
        assert "1 left out" in dialog.count.text()
        assert dialog.choices.index(0).data(Qt.ItemDataRole.CheckStateRole) is Qt.CheckState.PartiallyChecked
        assert doubtful not in dialog.included()
        dialog.reject()

    hands.in_dialog(type_a_limit)
    hands.press("Shift+Enter")


def test_a_new_survey_after_mending_shows_what_is_left(surveyed):
    hands = surveyed
    hands.press("N")
    finding = hands.work.focus
    total = len(hands.work.listing().rows)
    hands.press("Enter")
    hands.press("F5")
    assert hands.work.state_of(finding) is State.MENDED
    assert len(hands.work.listing().rows) == pytest.approx(total, abs=2)
    assert all(other.start != finding.start for other in hands.work.listing().open_findings())


def test_the_wide_dialogs_can_be_left_with_escape(surveyed):
    hands = surveyed
    version = hands.work.version
    for key in ("Shift+Enter", "Ctrl+S", "F1"):
        hands.in_dialog(lambda dialog: QTest.keyClick(dialog, Qt.Key.Key_Escape))
        hands.press(key)
    assert hands.work.version is version


def test_is_it_really_better_in_four_acts(surveyed, tmp_path):
    """Job 19: before, after and residue switched while playing, at the same spot; a report with pictures."""
    hands, window = surveyed, surveyed.window
    focus_longest(hands)
    hands.press("Enter")
    hands.acts = 0
    hands.press("Space", window)
    assert window.listening.is_playing
    at = window.listening.engine.position
    hands.press("B", window)
    assert window.listening.hearing is Hearing.BEFORE
    hands.press("R", window)
    assert window.listening.hearing is Hearing.RESIDUE
    assert window.listening.is_playing
    assert at <= window.listening.engine.position < at + 48000
    hands.press("Ctrl+R")
    assert hands.acts <= 4
    page = (tmp_path / "hot-report.html").read_text()
    assert page.count("<svg") == 2
    assert "1 mend</h3>" in page
    assert "True peak" in page
    hands.press("Ctrl+R")
    assert (tmp_path / "hot-report-2.html").exists()
