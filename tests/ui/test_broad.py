"""Broad treatments in the window: noise lowered by what is selected."""

import numpy as np
import pytest
import scipy.signal
from PySide6.QtCore import QPoint, Qt

from tests.sounds import RATE, faultless, rng, write
from tests.ui.test_course import heard, select
from umbrick.core.spectral.weighting import parsed_weighting
from umbrick.ui.strips.lines import StrengthLine


@pytest.fixture
def page(window):
    return window.treatment.course


@pytest.fixture
def noisy(hands, tmp_path):
    """A voice that begins after a second, in steady noise."""
    sound = np.concatenate([np.zeros((RATE, 1)), 0.4 * faultless(4.0)])
    hands.open(write(tmp_path / "noisy.wav", sound + 0.01 * rng(3).standard_normal(sound.shape)))
    return hands


def level_db(samples):
    return 10 * np.log10(np.square(samples.astype(float)).mean())


def test_noise_is_lowered_by_a_print_of_what_is_selected(noisy, window, page):
    before = heard(noisy)
    window.bench.set_passage(type(noisy.work.passage)(0, noisy.work.frames))
    noisy.settle()
    acts = noisy.acts
    select(noisy, RATE // 10, RATE * 8 // 10)
    noisy.press("Ctrl+Alt+N")
    assert noisy.acts - acts == 2
    noisy.settle()
    assert "Noise −10 dB" in page.rows[0].title.text()
    assert page.rows[0].where.text() == "All of it"
    after = heard(noisy)
    assert level_db(after[: RATE * 9 // 10]) == pytest.approx(level_db(before[: RATE * 9 // 10]) - 10, abs=0.7)
    voiced = slice(2 * RATE, 4 * RATE)
    assert level_db((after - before)[voiced]) < level_db(before[voiced]) - 15
    noisy.qtbot.waitUntil(lambda: page.noise.spectra is not None, timeout=20_000)
    spectra = page.noise.spectra
    assert page.noise.isVisible()
    assert np.median(spectra.before - spectra.after) > 3
    acts = noisy.acts
    noisy.type("20\n", page.settings.fields["reduction_db"])
    noisy.settle()
    assert level_db(heard(noisy)[: RATE * 9 // 10]) < level_db(before[: RATE * 9 // 10]) - 18
    noisy.press("Ctrl+Z")
    noisy.press("Ctrl+Z")
    assert np.array_equal(heard(noisy), before)


@pytest.fixture
def humming(hands, tmp_path):
    """A voice over hum of three harmonics."""
    sound = 0.4 * faultless(12.0)
    turns = 50 * np.arange(len(sound)) / RATE
    hum = sum(0.03 / number * np.sin(2 * np.pi * number * turns) for number in (1, 2, 3))
    hands.open(write(tmp_path / "hum.wav", sound + hum[:, np.newaxis]))
    return hands


def line_db(samples, hz):
    spectrum = np.abs(np.fft.rfft(samples[:, 0] * np.hanning(len(samples))))
    return 20 * np.log10(spectrum[round(hz * len(samples) / RATE)])


def test_hum_is_taken_out_and_one_of_its_harmonics_spared_by_a_click(humming, window, page):
    before = heard(humming)
    window.actions_.actions["lay_dehum"].trigger()
    humming.settle()
    assert "Hum 50.00 Hz" in page.rows[0].title.text()
    after = heard(humming)
    for hz in (50, 100, 150):
        assert line_db(after, hz) < line_db(before, hz) - 15
    picture = page.harmonics
    assert "100.0 Hz loses" in picture.told(2)
    humming.click(picture, picture.rect_of(2).center().x(), 20)
    assert "100.0 Hz stays" in picture.told(2)
    spared = heard(humming)
    assert line_db(spared, 100) == pytest.approx(line_db(before, 100), abs=0.2)
    assert line_db(spared, 150) < line_db(before, 150) - 15
    humming.press("Ctrl+Z")
    assert np.array_equal(heard(humming), after)


def test_a_finding_of_hum_is_answered_by_one_key(humming, window, page):
    humming.press("F5")
    humming.settle()
    hum = next(finding for finding in humming.work.listing().open_findings() if finding.kind == "hum")
    window.bench.focus(hum)
    humming.settle()
    before = heard(humming)
    humming.press("Alt+Return")
    humming.settle()
    assert "Hum 50.00 Hz" in page.rows[0].title.text()
    assert line_db(heard(humming), 100) < line_db(before, 100) - 15


def test_a_recording_without_hum_is_left_alone_and_told_so(noisy, window, page):
    said = []
    window.bench.failed.connect(said.append)
    window.bench.jobs.failed.connect(said.append)
    window.actions_.actions["lay_dehum"].trigger()
    noisy.settle()
    assert any("no steady hum" in sentence for sentence in said)
    assert noisy.work.history.course == ()


@pytest.fixture
def spoken(hands, tmp_path):
    """Three phrases with a second between them, in faint noise."""
    phrase, pause = 0.4 * faultless(1.5), np.zeros((RATE, 1))
    sound = np.concatenate([phrase, pause, phrase, pause, phrase])
    hands.open(write(tmp_path / "spoken.wav", sound + 3e-4 * rng(6).standard_normal(sound.shape)))
    return hands


def test_pauses_are_lowered_words_stay_and_one_pause_is_spared(spoken, window, page):
    before = heard(spoken)
    window.actions_.actions["lay_lull"].trigger()
    spoken.settle()
    assert "Pauses −12 dB" in page.rows[0].title.text()
    assert "2 places" in page.rows[0].where.text()
    after = heard(spoken)
    pauses = [round((1.5 + 2.5 * number) * RATE) + np.arange(RATE * 3 // 10, RATE * 7 // 10) for number in (0, 1)]
    for pause in pauses:
        assert level_db(after[pause]) == pytest.approx(level_db(before[pause]) - 12, abs=0.3)
    for number in range(3):
        words = slice(round(2.5 * number * RATE), round((2.5 * number + 1.5) * RATE))
        assert np.array_equal(after[words], before[words])
    window.bench.set_cursor(int(pauses[0][0]))
    spoken.press("Alt+Shift+P")
    spared = heard(spoken)
    assert np.array_equal(spared[pauses[0]], before[pauses[0]])
    assert np.array_equal(spared[pauses[1]], after[pauses[1]])
    spoken.press("Ctrl+Z")
    spoken.type("2000\n", page.settings.fields["shortest_ms"])
    spoken.settle()
    assert np.array_equal(heard(spoken), after), "no pause is so long: nothing was changed"


def test_job_11_pauses_are_lowered_by_what_is_said_and_one_is_left_alone_in_four_acts(spoken, window, page):
    before = heard(spoken)
    window.bench.set_passage(type(spoken.work.passage)(0, spoken.work.frames))
    spoken.settle()
    acts = spoken.acts
    spoken.press("Alt+Shift+L")
    spoken.settle()
    spoken.type("9\n", page.settings.fields["amount_db"])
    strip = window.strips[1]
    spoken.click(strip, strip.x_of(2 * RATE), strip.content_rect().center().y())
    spoken.press("Alt+Shift+P")
    assert spoken.acts - acts == 4
    after = heard(spoken)
    first, second = (slice(round((at + 0.3) * RATE), round((at + 0.7) * RATE)) for at in (1.5, 4.0))
    assert np.array_equal(after[first], before[first])
    assert level_db(after[second]) == pytest.approx(level_db(before[second]) - 9, abs=0.3)
    assert np.array_equal(after[: RATE * 3 // 2], before[: RATE * 3 // 2])


def test_a_wrong_print_or_weighting_is_refused_with_a_reason(noisy, window, page):
    said = []
    window.bench.failed.connect(said.append)
    window.actions_.actions["lay_denoise"].trigger()
    noisy.settle()
    assert "Noise −10 dB" in page.rows[0].title.text()
    before = heard(noisy)
    noisy.type("loud\n", page.settings.fields["weighting"])
    assert "no point of a curve" in said[-1]
    assert np.array_equal(heard(noisy), before)
    noisy.type("100:12 3000:-30\n", page.settings.fields["weighting"])
    noisy.settle()
    assert not np.array_equal(heard(noisy), before)


def test_noise_is_lowered_in_the_pauses_alone_along_a_drawn_line(noisy, window, page):
    before = heard(noisy)
    window.actions_.actions["lay_denoise"].trigger()
    noisy.settle()
    full = heard(noisy)
    passage = window.strips[1]
    window.bench.set_passage(type(noisy.work.passage)(0, noisy.work.frames))
    noisy.settle()
    noisy.press("Alt+G")
    line = next(tool for tool in passage.tools if isinstance(tool, StrengthLine))
    rect = passage.content_rect()
    start, stop = 2 * RATE, 4 * RATE
    select(noisy, start, stop)
    x = float(passage.x_of(3 * RATE))
    noisy.drag(passage, (x, line.y_of(1.0, rect)), (x, line.y_of(0.0, rect)))
    assert "Strength drawn" in page.rows[0].where.text() or "strength drawn" in page.rows[0].where.text()
    start, stop = noisy.work.selection.span
    after = heard(noisy)
    inside = slice(start + RATE // 5, stop - RATE // 5)
    assert np.array_equal(after[inside], before[inside])
    assert np.array_equal(after[:start], full[:start])
    assert np.array_equal(after[stop:], full[stop:])
    assert not np.array_equal(full[inside], before[inside])
    # A node is taken away by a key, and all of it by undo.
    node = window.controllers.strengthening.nodes(noisy.work)[1]
    noisy.click(passage, float(passage.x_of(node[0])), line.y_of(node[1], rect))
    noisy.press("Del")
    assert len(window.controllers.strengthening.nodes(noisy.work)) == 3
    noisy.press("Ctrl+Z")
    noisy.press("Ctrl+Z")
    assert np.array_equal(heard(noisy), full)
    noisy.press("Alt+G")
    assert not window.controllers.strengthening.is_shown


def test_a_weighting_is_drawn_over_the_picture(noisy, window, page):
    window.actions_.actions["lay_denoise"].trigger()
    noisy.settle()
    noisy.qtbot.waitUntil(lambda: page.noise.spectra is not None, timeout=20_000)
    picture = page.noise
    at = QPoint(round(picture.x_of(3000)), picture.height() // 2)
    noisy.qtbot.mouseDClick(picture, Qt.MouseButton.LeftButton, pos=at)
    noisy.settle()
    (step,) = noisy.work.history.course
    ((hz, level_db),) = parsed_weighting(step.settings["weighting"])
    assert hz == pytest.approx(3000, rel=0.05)
    assert abs(level_db) <= 4
    point = picture.place_of((hz, level_db))
    noisy.drag(picture, (point.x(), point.y()), (point.x(), picture.height() - 20))
    noisy.settle()
    (step,) = noisy.work.history.course
    ((hz, level_db),) = parsed_weighting(step.settings["weighting"])
    assert level_db < -12
    assert page.settings.fields["weighting"].text() == step.settings["weighting"]
    noisy.press("Del", picture)
    noisy.settle()
    assert noisy.work.history.course[0].settings["weighting"] == ""


@pytest.fixture
def in_a_hall(hands, tmp_path):
    """Phrases in a room that dies away in half a second, with a pause that a gate has emptied."""
    phrase = np.concatenate([0.4 * faultless(1.2, seed=3), np.zeros((RATE * 3 // 5, 1))])
    dry = np.concatenate([np.tile(phrase, (4, 1)), np.zeros((RATE, 1)), np.tile(phrase, (3, 1))])
    frames = RATE // 2
    response = 0.03 * rng(8).standard_normal(frames) * 10 ** (-3 * np.arange(frames) / frames)
    response[0] = 1
    wet = scipy.signal.fftconvolve(dry[:, 0], response)[: len(dry), np.newaxis]
    wet += 3e-4 * rng(9).standard_normal(wet.shape)
    start = 4 * len(phrase)
    wet[start + RATE // 10 : start + RATE * 9 // 10] = 0
    hands.open(write(tmp_path / "hall.wav", wet))
    return hands, slice(start + RATE // 10, start + RATE * 9 // 10)


def test_the_room_is_shown_dying_away_and_faster_when_it_is_lowered(in_a_hall, window, page):
    hall, _ = in_a_hall
    window.bench.set_passage(type(hall.work.passage)(0, hall.work.frames))
    window.actions_.actions["lay_dereverb"].trigger()
    hall.settle()
    hall.qtbot.waitUntil(lambda: page.decays.decays is not None, timeout=20_000)
    assert page.decays.isVisible()
    told = page.decays.accessibleDescription()
    assert "room 0." in told
    assert "treated −" in told
    before, after = page.decays.decays.before, page.decays.decays.after
    assert np.mean(after.levels_db) < np.mean(before.levels_db) - 1


def test_holes_in_pauses_are_filled_with_the_room_tone_beside_them(in_a_hall, window, page):
    hall, hole = in_a_hall
    window.actions_.actions["lay_lull"].trigger()
    hall.settle()
    assert not heard(hall)[hole].any()
    hall.press("Down", page.settings.fields["holes"])
    hall.settle()
    assert "holes filled" in page.rows[0].title.text()
    inside = heard(hall)[hole.start + RATE // 10 : hole.stop - RATE // 10]
    assert level_db(inside) == pytest.approx(20 * np.log10(3e-4) - 12, abs=1.5)
    hall.press("Ctrl+Z")
    assert not heard(hall)[hole].any()
