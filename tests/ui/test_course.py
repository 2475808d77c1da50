"""The course in the window: laid, changed, heard, carried, taken back; and what lies beneath it."""

import json
from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from scipy.signal import butter, sosfilt

from tests.sounds import RATE, faultless, rng, voice, write
from tests.ui.conftest import has_color
from umbrick.core.course.laid import rendered_source, underneath
from umbrick.core.course.treatments.filter import points_of
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.recording import open_recording
from umbrick.core.timeline.version import Version
from umbrick.ui import settings
from umbrick.ui.theme import DAYLIGHT


def crackling_f(seconds=6.0, at=(1.5, 4.0)):
    """A voice with two hisses of an F that tear."""
    sound = 0.4 * faultless(seconds)
    for number, second in enumerate(at):
        length = round(0.12 * RATE)
        hiss = rng(number).standard_normal(length)
        hiss = sosfilt(butter(4, 4000, "highpass", fs=RATE, output="sos"), hiss) * np.hanning(length)
        start = round(second * RATE)
        sound[start : start + length, 0] += 0.5 * hiss / np.abs(hiss).max()
    return sound


def highs_db(samples):
    high = sosfilt(butter(4, 5000, "highpass", fs=RATE, output="sos"), samples[:, 0].astype(float))
    return 10 * np.log10(np.square(high).mean())


@pytest.fixture
def voiced(hands, tmp_path):
    hands.open(write(tmp_path / "f.wav", crackling_f()))
    return hands


def select(hands, start, stop):
    """Drag over a span in the Passage."""
    strip = hands.window.strips[1]
    middle = strip.content_rect().center().y()
    hands.drag(strip, (strip.x_of(start), middle), (strip.x_of(stop), middle))


def heard(hands):
    outcome = hands.work.outcome
    return outcome.read(0, outcome.frames)


@pytest.fixture
def page(window):
    return window.treatment.course


def test_candidates_that_are_asked_for_are_seen_though_the_course_was_shown(voiced, window):
    panel = window.treatment
    start = voiced.work.passage.start
    select(voiced, start + 2000, start + 12000)
    voiced.press("Shift+F")
    assert panel.currentWidget() is panel.course
    voiced.press("Ctrl+B")
    assert panel.currentWidget() is panel.finding
    assert "Selection" in panel.finding.what.text()
    voiced.press("F3")
    assert panel.currentWidget() is panel.course


def test_job_10_one_f_is_softened_in_three_acts_and_carried_in_two(voiced, window, page):
    work = voiced.work
    window.bench.set_passage(type(work.passage)(0, work.frames))
    voiced.settle()
    before = heard(voiced)
    first, second = ((round(at * RATE), round((at + 0.12) * RATE)) for at in (1.5, 4.0))
    acts = voiced.acts
    select(voiced, first[0] - 500, first[1] + 500)
    voiced.press("Shift+F")
    voiced.type("-12\n", page.settings.fields["gain_db"])
    assert voiced.acts - acts == 3
    softened = heard(voiced)
    assert highs_db(softened[first[0] : first[1]]) < highs_db(before[first[0] : first[1]]) - 8
    start, stop = work.selection.span
    assert np.array_equal(softened[:start], before[:start])
    assert np.array_equal(softened[stop:], before[stop:])
    steepest = np.abs(np.diff(before, axis=0)).max()
    assert np.abs(np.diff((softened - before)[start - 10 : stop + 10], axis=0)).max() < steepest
    acts = voiced.acts
    select(voiced, second[0] - 500, second[1] + 500)
    voiced.press("Alt+P")
    assert voiced.acts - acts == 2
    both = heard(voiced)
    assert highs_db(both[second[0] : second[1]]) < highs_db(before[second[0] : second[1]]) - 8
    assert np.array_equal(both[:stop], softened[:stop])
    assert "2 places" in page.rows[0].where.text()
    assert work.history.mend_count == 0


def test_a_step_is_switched_moved_and_taken_off_and_all_of_it_undone(voiced, window, page):
    plain = heard(voiced)
    voiced.press("F3")
    assert window.treatment.currentWidget() is page
    assert "Nothing is laid over" in page.what.text()
    window.actions_.actions["lay_low_cut"].trigger()
    voiced.settle()
    cut = heard(voiced)
    window.actions_.actions["lay_peak"].trigger()
    voiced.settle()
    assert "Low cut 80 Hz" in page.rows[0].title.text()
    assert "Level to −1 dBFS" in page.rows[1].title.text()
    levelled = heard(voiced)
    assert np.abs(levelled).max() == pytest.approx(10 ** (-1 / 20), abs=1e-4)
    voiced.press("Alt+X")
    assert np.array_equal(heard(voiced), cut)
    assert not page.rows[1].switch.isChecked()
    voiced.press("Ctrl+Z")
    assert np.array_equal(heard(voiced), levelled)
    voiced.press("Alt+Shift+Up")
    assert [step.method for step in voiced.work.history.course] == ["normalize", "filter"]
    assert "changed since" not in page.rows[1].where.text()
    assert "changed since" in page.rows[0].where.text()
    voiced.click(page.again)
    assert "changed since" not in page.rows[0].where.text()
    voiced.press("Alt+Del")
    assert len(page.rows) == 1
    for _ in range(5):
        voiced.press("Ctrl+Z")
    assert voiced.work.history.course == ()
    assert np.array_equal(heard(voiced), plain)
    assert page.rows == []


def test_a_row_is_dragged_below_another(voiced, window, page):
    for name in ("lay_low_cut", "lay_notch"):
        window.actions_.actions[name].trigger()
        voiced.settle()
    first, second = page.rows
    down = second.geometry().bottom() - first.geometry().top() + 20
    voiced.drag(first, (10, 5), (10, down))
    assert [step.settings["shape"] for step in voiced.work.history.course] == ["notch", "low_cut"]


def test_a_step_is_heard_alone_and_without(voiced, window, page):
    for name in ("lay_low_cut", "lay_soft"):
        window.actions_.actions[name].trigger()
        voiced.settle()
    work, viewing = voiced.work, window.viewing

    def drawn():
        shown = viewing.shown_version(work)
        return [step.settings["shape"] for step in window.coursing.course_of(work)], shown

    voiced.click(page.rows[0].alone)
    assert drawn()[0] == ["low_cut"]
    assert window.listening.engine.programme.after is drawn()[1]
    voiced.click(page.rows[0].without)
    assert drawn()[0] == ["high_shelf"]
    voiced.click(page.rows[0].without)
    assert drawn()[0] == ["low_cut", "high_shelf"]
    assert [step.settings["shape"] for step in work.history.course] == ["low_cut", "high_shelf"]


def test_the_amount_is_slid_while_it_plays_and_written_once(voiced, window, page):
    window.actions_.actions["lay_soft"].trigger()
    voiced.settle()
    work, slider = voiced.work, page.rows[0].slider
    edits = work.history.now
    voiced.press("Space")
    slider.setSliderDown(True)
    for percent in (80, 60, 40):
        slider.setValue(percent)
        voiced.qtbot.waitUntil(
            lambda: window.listening.engine.programme.after is window.coursing.through(work, work.version),
            timeout=20_000,
        )
    assert work.history.now == edits
    slider.setSliderDown(False)
    voiced.settle()
    voiced.press("Space")
    assert work.history.now == edits + 1
    assert work.history.course[0].amount == 0.4
    voiced.type("250 %\n", page.rows[0].amount)
    assert work.history.course[0].amount == 0.4
    voiced.type("25 %\n", page.rows[0].amount)
    assert work.history.course[0].amount == 0.25


def test_points_of_a_filter_are_set_dragged_sharpened_and_taken_off(voiced, window, page):
    window.actions_.actions["lay_filter"].trigger()
    voiced.settle()
    work, curve = voiced.work, page.curve
    assert has_color(curve, DAYLIGHT.mended)
    at = curve.place_of(curve.points[0])
    voiced.drag(curve, (at.x(), at.y()), (curve.x_of(300), curve.y_of(-12)))
    (point,) = points_of(work.history.course[0].settings)
    assert point.frequency_hz == pytest.approx(300, rel=0.05)
    assert point.gain_db == pytest.approx(-12, abs=0.5)
    there = QPoint(round(curve.x_of(4000)), round(curve.y_of(6)))
    voiced.qtbot.mouseDClick(curve, Qt.MouseButton.LeftButton, pos=there)
    voiced.settle()
    assert [round(p.frequency_hz, -2) for p in points_of(work.history.course[0].settings)] == [300, 4000]
    voiced.press("Up", curve)
    voiced.settle()
    assert points_of(work.history.course[0].settings)[1].gain_db == pytest.approx(6.5, abs=0.5)
    voiced.press("Alt+PgDown")
    voiced.type("5 kHz\n", page.settings.fields["frequency_hz"])
    assert "frequency" in window.status.message.text()
    voiced.type("5000\n", page.settings.fields["frequency_hz"])
    assert points_of(work.history.course[0].settings)[1].frequency_hz == 5000
    voiced.press("Del", curve)
    voiced.settle()
    assert len(points_of(work.history.course[0].settings)) == 1


def test_mends_lie_beneath_the_course_and_neither_locks_the_other(surveyed, window):
    work = surveyed.work
    surveyed.press("Alt+N")
    surveyed.press("Enter")
    (mend,) = {entry.mend.id for entry in work.history.ledger[:1]}
    mended = work.version.read(0, work.frames)
    window.actions_.actions["lay_low_cut"].trigger()
    surveyed.settle()
    surveyed.press("Alt+N")
    window.coursing.set_open(False)
    offer = window.mending.offer_in(work)
    assert offer is not None
    shown = window.viewing.shown_version(work)
    assert rendered_source(shown) is not None
    assert underneath(shown) is offer.mended.version
    surveyed.press("Enter")
    assert work.history.mend_count == 2
    window.lifting.choose([mend])
    surveyed.press("Del")
    assert mend not in {entry.mend.id for entry in work.history.ledger}
    assert [step.method for step in work.history.course] == ["filter"]
    surveyed.press("Ctrl+Z")
    surveyed.press("Ctrl+Z")
    assert np.array_equal(work.version.read(0, work.frames), mended)


def test_the_course_is_saved_reported_and_there_again_when_reopened(voiced, window, tmp_path):
    work = voiced.work
    window.actions_.actions["lay_soft"].trigger()
    voiced.settle()
    wanted = heard(voiced)
    target = tmp_path / "softened.wav"
    voiced.in_dialog(lambda dialog: (dialog.path.setText(str(target)), dialog.accept_button.click()))
    voiced.press("Ctrl+S")
    saved = open_recording(target, tmp_path / "cache")
    assert np.abs(saved.source.read(0, saved.source.frames) - wanted).max() < 3e-7
    saved.close()
    assert not work.has_unsaved_mends
    window.controllers.reporting.write(tmp_path / "report.json")
    voiced.settle()
    entry = json.loads((tmp_path / "report.json").read_text())["recordings"][0]
    (step,) = [mend for mend in entry["mends"] if mend.get("is_course")]
    assert (step["method"], step["spans"]) == ("filter", [[0, work.frames]])
    window.controllers.reporting.write(tmp_path / "report.html")
    voiced.settle()
    assert "Course" in (tmp_path / "report.html").read_text()
    course, path = work.history.course, work.home
    window.close_recording()
    voiced.settle()
    voiced.open(path)
    assert voiced.work is not work
    assert voiced.work.history.course == course
    assert np.array_equal(heard(voiced), wanted)


def test_the_survey_hears_the_course(hands, window, tmp_path):
    hands.open(write(tmp_path / "leaning.wav", 0.5 * voice(4.0) + 0.08))
    hands.press("F5")
    assert hands.work.listing().open_findings("dc_offset")
    window.actions_.actions["lay_dc"].trigger()
    hands.settle()
    hands.press("F5")
    assert not hands.work.listing().open_findings("dc_offset")
    assert np.array_equal(hands.work.version.read(0, 100), Version.of(hands.work.recording.source).read(0, 100))


def test_one_click_mended_makes_just_its_tiles_anew(hands, window, tmp_path):
    sound = 0.4 * voice(30.0)
    sound[700_000] += 0.6
    hands.open(write(tmp_path / "long.wav", sound))
    window.actions_.actions["lay_low_cut"].trigger()
    hands.settle()
    work, tiles = hands.work, window.bench.tiles
    made = tiles.made
    assert made >= 22
    window.bench.select(699_990, 700_010)
    hands.press("Shift+Backspace")
    assert work.history.mend_count == 1
    assert 1 <= tiles.made - made <= 2


def test_the_pen_works_on_the_samples_beneath(voiced, window):
    window.actions_.actions["lay_low_cut"].trigger()
    voiced.settle()
    loupe, work = window.loupe, voiced.work
    assert rendered_source(loupe.shown_version(work)) is not None
    voiced.press("D")
    assert rendered_source(loupe.shown_version(work)) is None


def test_a_step_over_all_is_carried_to_every_open_recording(voiced, window, tmp_path):
    first = voiced.work
    voiced.open(write(tmp_path / "other.wav", 0.3 * voice(2.0)))
    window.bench.show_work(first)
    window.actions_.actions["lay_peak"].trigger()
    voiced.settle()
    window.actions_.actions["carry_step_over"].trigger()
    voiced.settle()
    other = next(work for work in window.bench.works if work is not first)
    assert [step.method for step in other.history.course] == ["normalize"]
    sound = other.outcome.read(0, other.frames)
    assert np.abs(sound).max() == pytest.approx(10 ** (-1 / 20), abs=1e-4)


def test_a_step_is_laid_over_the_selection_the_pauses_or_the_findings_of_a_kind(hands, window, page, tmp_path):
    sound = crackling_f(8.0, at=(2.0, 5.0))
    sound[3 * RATE : 4 * RATE] = 0.0003 * rng(5).standard_normal((RATE, 1))
    sound[6 * RATE] += 0.5
    hands.open(write(tmp_path / "paused.wav", sound))
    hands.press("F5")
    window.actions_.actions["lay_soft"].trigger()
    hands.settle()
    work = hands.work
    window.bench.select(RATE, 2 * RATE)
    hands.settle()
    window.actions_.actions["step_over_selection"].trigger()
    hands.settle()
    assert work.history.course[0].spans == ((RATE, 2 * RATE),)
    window.actions_.actions["step_over_pauses"].trigger()
    hands.settle()
    (step,) = work.history.course
    assert any(start < 3.3 * RATE and stop > 3.7 * RATE for start, stop in step.spans)
    assert "pauses: " in page.rows[0].where.text().lower()
    click = next(f for f in work.listing().open_findings() if f.kind == "click")
    window.bench.focus(click)
    hands.settle()
    window.actions_.actions["step_over_findings"].trigger()
    hands.settle()
    (step,) = work.history.course
    assert step.where == "clicks"
    assert any(start <= click.start < stop for start, stop in step.spans)
    window.actions_.actions["step_over_all"].trigger()
    hands.settle()
    assert work.history.course[0].spans is None


def test_a_step_acts_on_the_channels_that_are_selected(hands, window, page, tmp_path):
    hands.open(write(tmp_path / "two.wav", np.repeat(0.3 * voice(3.0), 2, axis=1)))
    window.actions_.actions["lay_soft"].trigger()
    hands.settle()
    hands.press("Shift+C")
    window.actions_.actions["step_channels"].trigger()
    hands.settle()
    plain, made = hands.work.version.read(0, hands.work.frames), heard(hands)
    assert hands.work.history.course[0].channels == (0,)
    assert "left" in page.rows[0].where.text()
    assert np.array_equal(made[:, 1], plain[:, 1])
    assert not np.array_equal(made[:, 0], plain[:, 0])


def learn_to_filter_otherwise(monkeypatch):
    """As if a later Umbrick filtered differently."""
    method = METHODS["filter"]

    def process(block, settings, profile):
        return 0.5 * method.does.process(block, settings, profile)

    does = replace(method.does, version=2, process=process)
    monkeypatch.setitem(METHODS, "filter", replace(method, does=does))


def test_a_step_made_by_an_earlier_treatment_is_told_of_and_its_sound_kept_or_not(voiced, window, monkeypatch):
    window.actions_.actions["lay_soft"].trigger()
    voiced.settle()
    path = voiced.work.home
    made = heard(voiced)
    learn_to_filter_otherwise(monkeypatch)
    window.close_recording()
    voiced.settle()
    voiced.open(path)
    assert "may sound different" in window.notices.text.text()
    assert not np.array_equal(heard(voiced), made)
    voiced.click(window.notices.buttons[0])
    voiced.settle()
    assert "kept for" in window.status.message.text()
    assert np.array_equal(heard(voiced), made)
    assert [entry.mend.method for entry in voiced.work.history.ledger] == ["settle"]
    voiced.press("Ctrl+Z")
    window.controllers.settling.tell_of_other_sound(voiced.work)
    voiced.click(window.notices.buttons[1])
    assert voiced.work.history.course[0].algorithm == 2
    assert not np.array_equal(heard(voiced), made)


def test_the_room_on_the_disk_is_typed_and_remembered(voiced, window):
    def ask(dialog):
        dialog.fields[0].setText("much")
        assert not dialog.accept_button.isEnabled()
        dialog.fields[0].setText("3 GB")
        dialog.accept_button.click()

    voiced.in_dialog(ask)
    window.actions_.actions["course_room"].trigger()
    assert settings.tile_limit_bytes() == 3 << 30


def test_silence_cannot_be_levelled_and_says_why(hands, window, tmp_path):
    hands.open(write(tmp_path / "silent.wav", np.zeros((RATE, 1))))
    window.actions_.actions["lay_loudness"].trigger()
    hands.settle()
    assert hands.work.history.course == ()
    assert "silence" in window.status.message.text()


def test_the_course_is_settled_drawn_on_and_lifted_off_again(voiced, window):
    work = voiced.work
    window.actions_.actions["lay_low_cut"].trigger()
    voiced.settle()
    laid = heard(voiced)
    window.bench.select(RATE, 2 * RATE)
    window.actions_.actions["settle"].trigger()
    voiced.settle()
    assert "Settled" in window.status.message.text()
    assert [entry.mend.method for entry in work.history.ledger] == ["settle"]
    assert np.array_equal(work.version.read(RATE, 2 * RATE), laid[RATE : 2 * RATE])
    assert np.array_equal(heard(voiced)[RATE : 2 * RATE], laid[RATE : 2 * RATE])
    window.bench.select(RATE + 1000, RATE + 1010)
    voiced.press("Shift+Y")
    assert (heard(voiced)[RATE + 1001 : RATE + 1009] != laid[RATE + 1001 : RATE + 1009]).any()
    voiced.press("Ctrl+Z")
    window.lifting.choose([work.history.ledger[0].mend.id])
    assert not window.actions_.actions["settings"].isEnabled()
    voiced.press("Del")
    assert np.array_equal(heard(voiced), laid)
    assert work.history.mend_count == 0
