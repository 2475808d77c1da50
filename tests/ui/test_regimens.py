"""Regimens in the window: drawn from what was done, edited, kept on keys, run on a recording and on a folder."""

import json

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QInputDialog

from tests.sounds import RATE, clipped, faultless, write
from umbrick.core.regimen.regimen import Regimen
from umbrick.ui.dialogs.batch_dialog import BatchDialog
from umbrick.ui.dialogs.regimen_dialog import RegimenDialog


def tape(path, seed=0):
    sound, _, _ = clipped(faultless(2.0, seed=seed), 0.004)
    sound[RATE : RATE + 300] = 0
    return write(path, sound)


@pytest.fixture
def mended(hands, tmp_path):
    """A tape, mended and with a step laid over it."""
    hands.open(tape(tmp_path / "one.wav"))
    hands.press("F5")
    hands.window.mending.mend_all(hands.work.listing().open_findings())
    hands.settle()
    hands.settle()
    return hands


def test_what_was_done_becomes_a_regimen_that_does_it_to_another(mended, tmp_path, monkeypatch):
    hands = mended
    target = tmp_path / "r.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    hands.in_dialog(lambda dialog: dialog.accept_button.click())
    hands.press("Ctrl+Alt+R")
    regimen = Regimen.load(target)
    assert {step.method.name for step in regimen.mends} >= {"declip", "bridge"}
    assert all(step.where.kinds for step in regimen.mends)
    hands.open(tape(tmp_path / "two.wav", seed=4))
    hands.window.bench.show_work(hands.window.bench.find_open(tmp_path / "two.wav"))
    hands.settle()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(target), ""))
    monkeypatch.setattr(QInputDialog, "getItem", lambda *arguments: (arguments[3][1], True))
    hands.window.actions_.actions["keep_regimen"].trigger()
    hands.settle()
    assert "Ctrl+2" in hands.window.status.message.text()
    before = hands.work.version.read(0, hands.work.frames)
    hands.press("Ctrl+2")
    assert hands.work.history.mend_count >= 2
    assert not np.array_equal(hands.work.version.read(0, hands.work.frames), before)
    hands.press("Ctrl+Z")
    assert np.array_equal(hands.work.version.read(0, hands.work.frames), before)
    action = hands.window.actions_.actions["regimen_5"]
    assert "No regimen is kept on Ctrl+5" in action.toolTip()


REGIMEN = {
    "schema": "umbrick.regimen/1",
    "name": "Tape",
    "steps": [{"method": "declip", "where": "findings:clipping"},
              {"method": "filter", "set": {"shape": "low_cut", "frequency_hz": 40}}],
}  # fmt: skip


def test_a_regimen_runs_on_what_is_selected_and_nowhere_else(hands, tmp_path, monkeypatch):
    (tmp_path / "r.json").write_text(json.dumps(REGIMEN))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "r.json"), ""))
    hands.open(tape(tmp_path / "one.wav"))
    action = hands.window.actions_.actions["run_on_selection"]
    assert not action.isEnabled()
    before = hands.work.outcome.read(0, hands.work.frames)
    hands.window.bench.select(RATE // 2, RATE)
    hands.qtbot.waitUntil(action.isEnabled)
    action.trigger()
    hands.settle()
    after = hands.work.outcome.read(0, hands.work.frames)
    changed = np.flatnonzero((after != before).any(axis=1))
    assert changed[0] >= RATE // 2 - RATE // 100
    assert changed[-1] < RATE + RATE // 100
    hands.press("Ctrl+Z")
    assert np.array_equal(hands.work.outcome.read(0, hands.work.frames), before)


def test_what_is_typed_is_checked_as_it_is_typed(hands, qtbot):
    dialog = RegimenDialog(Regimen.parsed(REGIMEN), can_run=False)
    qtbot.addWidget(dialog)
    dialog.show()
    assert dialog.accept_button.isEnabled()
    assert not dialog.run_button.isEnabled()
    dialog.table.item(1, 3).setText("shape = low_cut; frequency_hz = forty")
    assert not dialog.accept_button.isEnabled()
    assert "Step 2 of the regimen" in dialog.note.text()
    dialog.table.item(1, 3).setText("shape = low_cut; frequency_hz = 55")
    assert dialog.regimen.steps[1].settings["frequency_hz"] == 55
    dialog.table.item(0, 2).setText("findings:ghosts")
    assert "ghosts" in dialog.note.text()
    dialog.table.item(0, 2).setText("findings:clipping")
    dialog.table.item(0, 0).setCheckState(Qt.CheckState.Unchecked)
    assert not dialog.regimen.mends
    dialog.table.selectRow(1)
    dialog._move(-1)
    assert [step.method.name for step in dialog.regimen.steps] == ["filter", "declip"]
    assert "frequency_hz" in dialog.note.text()
    dialog.adding.setCurrentIndex(dialog.adding.findData("bridge"))
    dialog._add()
    assert dialog.regimen.steps[-1].where.kinds
    dialog._take_out()
    assert len(dialog.regimen.steps) == 2
    assert Regimen.parsed(json.loads(json.dumps(dialog.regimen.document()))) == dialog.regimen


def test_a_folder_is_treated_within_six_acts(hands, tmp_path, monkeypatch):
    """Job 20: one regimen, all files, doubtful ones on top, restartable."""
    folder = tmp_path / "tapes"
    folder.mkdir()
    for number in range(2):
        tape(folder / f"tape {number}.wav", seed=number)
    (folder / "broken.wav").write_bytes(b"not sound")
    (tmp_path / "r.json").write_text(json.dumps(REGIMEN))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "r.json"), ""))
    hands.press("Ctrl+Alt+F")
    dialog = hands.window.regimen_dialogs.batch
    assert isinstance(dialog, BatchDialog)
    hands.type(str(folder), dialog.source)
    assert dialog.out.text() == str(tmp_path / "tapes-mended")
    hands.click(dialog.start_button)
    hands.qtbot.waitUntil(lambda: not dialog.is_running, timeout=120_000)
    assert hands.acts <= 6
    assert "2 files done, 1 failed" in dialog.told.text()
    rows = [[dialog.table.item(row, column).text() for column in range(3)] for row in range(dialog.table.rowCount())]
    (broken,) = (row for row in rows if row[0] == "broken.wav")
    assert broken[1] == "failed"
    assert "not a sound file" in broken[2]
    told = json.loads(dialog.report_path.read_text())
    assert len(told["recordings"]) == 2
    assert dialog.report_path.with_suffix(".html").exists()
    hands.click(dialog.start_button)
    hands.qtbot.waitUntil(lambda: not dialog.is_running, timeout=120_000)
    assert "2 of them before" in dialog.told.text()
    dialog.reject()


def test_a_folder_without_recordings_is_told(hands, tmp_path, qtbot):
    dialog = BatchDialog(hands.window.bench, Regimen.parsed(REGIMEN), None)
    qtbot.addWidget(dialog)
    dialog.show()
    dialog.start()
    assert "Choose the folder" in dialog.told.text()
    dialog.source.setText(str(tmp_path / "gone"))
    dialog.start()
    assert f"There is no {tmp_path / 'gone'}" in dialog.told.text()
    dialog.source.setText(str(tmp_path))
    dialog.start()
    assert "no recording" in dialog.told.text()
