"""The level review: the parts side by side, and levelled one by one."""

import numpy as np
import pytest
from PySide6.QtWidgets import QApplication, QFileDialog

from tests.core.survey.test_kinds import speech
from tests.sounds import RATE, write
from tests.ui.conftest import has_color
from umbrick.core.measure.levels import LevelMeter
from umbrick.ui.theme import DAYLIGHT


def three_parts():
    """Nine seconds of words, nine much quieter, nine as before with one shout; pauses between."""
    pause = np.zeros((RATE, 1)) + 1e-5
    words = [0.5 * speech(9.0, seed=seed) for seed in (0, 40, 80)]
    words[1] *= 0.3
    shout = slice(5 * RATE, 5 * RATE + RATE // 4)
    words[2][shout] = np.clip(words[2][shout] * 5, -0.95, 0.95)
    return np.concatenate([words[0], pause, words[1], pause, words[2]])


@pytest.fixture
def reviewed(hands, tmp_path):
    hands.open(write(tmp_path / "parts.wav", three_parts()))
    hands.press("F4")
    return hands


def rms_db(version, start, stop):
    return 20 * np.log10(np.sqrt(np.mean(version.read(start, stop).astype(float) ** 2)))


def test_the_quiet_part_is_seen_and_raised_by_one_key(reviewed, window):
    reviewing, work = window.tools.reviewing, reviewed.work
    assert len(reviewing.parts) == 3
    assert [part.note for part in reviewing.parts] == ["", "too quiet", ""]
    chart = window.review.chart
    assert chart.isVisible()
    assert has_color(chart, DAYLIGHT.body)
    assert has_color(chart, DAYLIGHT.wrong), "what is proposed is drawn"
    reviewed.press("Shift+F4")
    part = reviewing.part
    assert part is reviewing.parts[1]
    assert work.selection.span == (part.start, part.stop)
    assert "too quiet" in window.review.words.text()
    before = rms_db(work.version, part.start + RATE, part.stop - RATE)
    reviewed.press("Ctrl+Return")
    after = rms_db(work.version, part.start + RATE, part.stop - RATE)
    assert after - before == pytest.approx(part.proposed_db, abs=0.05)
    assert work.version.frames == work.history.original.frames
    assert [part.note for part in reviewing.parts] == ["", "", ""]
    assert not window.actions_.actions["level_part"].isEnabled()


def test_parts_are_chosen_by_keys_and_by_the_pointer(reviewed, window):
    chart, reviewing = window.review.chart, window.tools.reviewing
    assert QApplication.focusWidget() is chart
    reviewed.press("Right", chart)
    assert reviewing.chosen == 1
    reviewed.press("Left", chart)
    reviewed.press("Left", chart)
    assert reviewing.chosen == 0
    place = chart.column(2).center()
    reviewed.click(chart, place.x(), place.y())
    assert reviewing.chosen == 2
    assert reviewed.work.cursor == reviewing.part.start
    reviewed.press("F4")
    assert not window.review.isVisible()
    assert not reviewing.parts


def test_job_12_a_quiet_part_and_a_hit_that_sticks_out_in_six_acts(hands, window, tmp_path, monkeypatch):
    hands.open(write(tmp_path / "parts.wav", three_parts()))
    table = tmp_path / "levels.csv"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(table), ""))
    hands.acts = 0
    hands.press("F5")
    hands.press("F4")
    notes = {part.note for part in window.tools.reviewing.parts}
    assert {"too quiet", "sticks out"} <= notes
    peak = next(part for part in window.tools.reviewing.parts if part.is_peak)
    hands.press("Shift+F4")
    hands.press("Ctrl+Return")
    hands.press("Shift+F4")
    assert window.tools.reviewing.part.is_peak
    hands.press("Ctrl+Return")
    assert hands.acts <= 6
    window.actions_.actions["review_out"].trigger()
    hands.settle()
    meter = LevelMeter(RATE, 1)
    meter.feed(hands.work.version.read(peak.start, peak.stop))
    original = np.abs(hands.work.history.original.read(peak.start, peak.stop)).max()
    assert 20 * np.log10(meter.peak / original) == pytest.approx(peak.proposed_db, abs=0.6)
    lines = table.read_text().splitlines()
    assert lines[0].startswith("start,end,")
    assert len(lines) == 1 + len(window.tools.reviewing.parts)
