"""The spectrogram, and areas in it, as a person uses them."""

from dataclasses import replace

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest

from tests.core.areas.test_treating import whistle
from tests.sounds import RATE, voice, write
from umbrick.core.areas.area import Area
from umbrick.core.areas.shapes import Box
from umbrick.core.view.spectrogram import Sharpening
from umbrick.ui.bench.spectral_view import Face
from umbrick.ui.hand.outlining import Ear, Pen

START, STOP, HZ = 2 * RATE, round(2.4 * RATE), 3100.0


def overheard(seconds=4.0):
    """Return a voice, and the same with a kettle over it."""
    right = 0.4 * voice(seconds, seed=4)
    wrong = right.copy()
    wrong[START:STOP, 0] += whistle(START, STOP, HZ, 0.1)
    return right, wrong


@pytest.fixture
def kettle(hands, window, tmp_path):
    """A voice with a kettle over it, its spectrogram shown."""
    right, wrong = overheard()
    hands.open(write(tmp_path / "kettle.wav", wrong))
    hands.truth = right[:, 0]
    hands.press("0")
    hands.press("V")
    hands.press("V")
    assert window.viewing.spectral.face is Face.SPECTRUM
    return hands


@pytest.fixture
def passage(window):
    return window.passage


def at(passage, frame, hz):
    return QPointF(float(passage.x_of(frame)), float(passage.y_of_hz(hz)))


def double_click(hands, passage, frame, hz, modifier=Qt.KeyboardModifier.NoModifier):
    hands.acts += 1
    place = at(passage, frame, hz).toPoint()
    QTest.mouseClick(passage, Qt.MouseButton.LeftButton, modifier, place)
    QTest.mouseDClick(passage, Qt.MouseButton.LeftButton, modifier, place)
    hands.settle()


def darkness(passage, frame, hz):
    """Return how dark the spectrogram is drawn at a place, from 0 to 255."""
    place = at(passage, frame, hz).toPoint()
    image = passage.grab().toImage()
    # The cursor or a mark may lie on a single pixel.
    return max(255 - image.pixelColor(place + QPoint(aside, 0)).lightness() for aside in range(-2, 3))


def test_v_goes_through_waveform_both_spectrogram_and_one_over_the_other(kettle, window, passage):
    assert darkness(passage, (START + STOP) / 2, HZ) > darkness(passage, (START + STOP) / 2, 9000) + 60
    kettle.press("V")
    assert window.viewing.spectral.face is Face.OVER
    kettle.press("V")
    assert window.viewing.spectral.face is Face.WAVE
    assert passage.spectrum_rect() is None
    kettle.press("V")
    wave, spectrum = passage.content_rect(), passage.spectrum_rect()
    assert wave.bottom() < spectrum.top()
    kettle.drag(passage, (300, wave.bottom() + 2), (300, wave.bottom() + 42))
    assert passage.content_rect().bottom() == pytest.approx(wave.bottom() + 40, abs=3)


def test_the_pointer_tells_frequency_note_and_level(kettle, window, passage):
    QTest.mouseMove(passage, at(passage, (START + STOP) / 2, HZ).toPoint())
    kettle.settle()
    text = window.status.place.text()
    told = float(text.split(" Hz")[0].rsplit(" ", 1)[-1])
    assert told == pytest.approx(HZ, rel=0.03)
    assert "G7" in text
    assert "dB" in text


def test_frequencies_zoom_and_scroll(kettle, window, passage):
    centre = at(passage, START, HZ)
    before = passage.hz_at(centre.y())
    kettle.wheel(passage, 6, centre.x(), centre.y(), "Shift")
    scale = window.viewing.spectral.scale(RATE)
    assert scale.high - scale.low < 0.5
    assert passage.hz_at(centre.y()) == pytest.approx(before, rel=0.02)
    kettle.wheel(passage, 2, centre.x(), centre.y(), "Alt")
    assert window.viewing.spectral.scale(RATE).low > scale.low
    kettle.press("Alt+Shift+A")
    assert window.viewing.spectral.scale(RATE).high == 1.0


def test_windows_spacing_and_colours_change_by_keys(kettle, window, passage):
    view, middle = window.viewing.spectral, (START + STOP) / 2
    for key, of in (("Shift+V", "sharpening"), ("Alt+Shift+V", "wash"), ("Shift+.", "length")):
        before = getattr(view, of)
        kettle.press(key)
        assert getattr(view, of) != before
        assert darkness(passage, middle, HZ) > darkness(passage, middle, 9000)
    spacing = view.scale(RATE).spacing
    kettle.press("Ctrl+Shift+L")
    assert view.scale(RATE).spacing != spacing
    kettle.press("Alt+Shift+F")
    assert view.ceiling_db < 0
    while view.sharpening is not Sharpening.REASSIGNED:
        kettle.press("Shift+V")
    kettle.press("Ctrl+Shift+W")
    assert window.strips[0].spectrum.picture is not None


def test_job_8_a_kettle_is_seen_gathered_heard_alone_and_removed(kettle, window, passage):
    kettle.acts = 2  # V was pressed twice to see it
    double_click(kettle, passage, (START + STOP) / 2, HZ)
    start, stop, low, high = kettle.work.area.area.extent
    assert start == pytest.approx(START, abs=3000)
    assert stop == pytest.approx(STOP, abs=3000)
    assert low < HZ < high < low + 500
    kettle.press("Shift+K")
    assert window.outlining.ear is Ear.ALONE
    heard = window.listening._excerpts.after[:, 0].astype(float)
    inside = START - window.listening._excerpts.places[0]
    kettle_alone = whistle(START, STOP, HZ, 0.1)
    correlation = np.corrcoef(heard[inside : inside + STOP - START], kettle_alone)[0, 1]
    assert correlation > 0.9
    kettle.press("Enter")
    assert kettle.acts <= 5
    assert window.outlining.ear is None
    (mend,) = kettle.work.history.mends
    assert mend.method == "area"
    after = kettle.work.version.read(0, kettle.work.frames)[:, 0].astype(float)
    left, planted = after[START:STOP] - kettle.truth[START:STOP], whistle(START, STOP, HZ, 0.1)
    assert 10 * np.log10(np.sum(planted**2) / np.sum(left**2)) > 12
    assert np.array_equal(after[: START - 5000], kettle.work.history.original.read(0, START - 5000)[:, 0])
    kettle.press("Ctrl+Z")
    assert kettle.work.history.mends == ()


def test_a_box_is_drawn_joined_moved_and_cleared(kettle, window, passage):
    kettle.press("Shift+R")
    assert window.outlining.pen is Pen.BOX
    one, two = at(passage, START, 4000), at(passage, STOP, 2500)
    kettle.drag(passage, (one.x(), one.y()), (two.x(), two.y()))
    start, stop, low, high = kettle.work.area.area.extent
    assert (start, stop) == pytest.approx((START, STOP), abs=2 * kettle.work.frames / passage.width())
    assert low == pytest.approx(2500, rel=0.05)
    assert high == pytest.approx(4000, rel=0.05)
    three, four = at(passage, STOP + 9000, 8000), at(passage, STOP + 30_000, 6000)
    kettle.drag(passage, (three.x(), three.y()), (four.x(), four.y()), modifier="Shift")
    assert len(kettle.work.area.area.parts) == 2
    inner, outer = at(passage, START + 9000, 3400), at(passage, STOP - 9000, 2800)
    kettle.drag(passage, (inner.x(), inner.y()), (outer.x(), outer.y()), modifier="Alt")
    assert [join.value for join, _ in kettle.work.area.area.parts] == ["+", "+", "-"]
    kettle.press("Shift+R")
    before = kettle.work.area.area.extent
    grip = at(passage, START + 3000, 3000)
    kettle.drag(passage, (grip.x(), grip.y()), (grip.x() + 40, grip.y()))
    moved = kettle.work.area.area.extent[0] - before[0]
    assert moved == pytest.approx(40 * kettle.work.frames / passage.width(), rel=0.05)
    kettle.press("Esc")
    assert kettle.work.area is None


def test_outline_and_brush_draw_what_they_went_over(kettle, window, passage):
    kettle.press("Shift+O")
    low, high = at(passage, START, 1000), at(passage, STOP, 6000)
    kettle.drag(passage, (low.x(), low.y()), (high.x(), high.y()), steps=6)
    assert kettle.work.area is not None
    kettle.press("Shift+Q")
    one, two = at(passage, START, HZ), at(passage, STOP, HZ)
    kettle.drag(passage, (one.x(), one.y()), (two.x(), two.y()), steps=6)
    start, stop, low_hz, high_hz = kettle.work.area.area.extent
    assert high_hz - low_hz == pytest.approx(window.outlining.brush_hz, rel=0.3)
    assert stop - start > STOP - START


def test_gathering_takes_more_or_less_and_everywhere(kettle, window, passage):
    double_click(kettle, passage, (START + STOP) / 2, HZ)
    usual = kettle.work.area.area.extent
    for _ in range(3):
        kettle.press("Ctrl+Shift+D")
    less = kettle.work.area.area.extent
    assert less[3] - less[2] <= usual[3] - usual[2]
    kettle.press("Ctrl+Shift+E")
    assert window.outlining.gathering.everywhere
    assert kettle.work.area is not None


def test_other_beeps_like_one_are_listed_and_mended_together(hands, window, passage, tmp_path):
    sound = 0.3 * voice(16.0, seed=2)
    frames = RATE // 5
    for second in (2, 5, 9, 12):
        sound[second * RATE : second * RATE + frames, 0] += whistle(0, frames, HZ, 0.06)
    hands.open(write(tmp_path / "beeps.wav", sound))
    hands.press("F5")
    hands.press("V")
    window.bench.set_passage(replace(hands.work.passage, start=4.5 * RATE, stop=6 * RATE))
    hands.settle()
    known = len(hands.work.listing().open_findings("intrusion"))
    double_click(hands, passage, 5 * RATE + frames // 2, HZ)
    hands.press("Shift+M")
    new = [f for f in hands.work.listing().open_findings("intrusion") if "sounds like the area" in f.evidence]
    assert [round(f.start / RATE) for f in new] == [2, 9, 12]
    assert len(hands.work.listing().open_findings("intrusion")) == known + 3
    window.mending.mend_all(new)
    hands.settle()
    after = hands.work.version.read(0, hands.work.frames)[:, 0]
    for second in (2, 9, 12):
        part = np.abs(np.fft.rfft(after[second * RATE + 1000 : second * RATE + frames - 1000]))
        before = np.abs(np.fft.rfft(sound[second * RATE + 1000 : second * RATE + frames - 1000, 0]))
        line = round(HZ * (frames - 2000) / RATE)
        assert part[line - 8 : line + 9].max() < 0.25 * before[line - 8 : line + 9].max()


def test_a_kept_area_is_a_marker_that_undo_takes_away_and_the_casebook_holds(kettle, window, passage, tmp_path):
    double_click(kettle, passage, (START + STOP) / 2, HZ)
    area = kettle.work.area.area
    kettle.in_dialog(lambda dialog: (dialog.fields[0].setText("Kettle"), dialog.accept()))
    kettle.press("Ctrl+Shift+K")
    kettle.settle()
    (marker,) = kettle.work.history.markers
    assert marker.name == "Kettle"
    window.opening.name_casebook(tmp_path / "kettle.casebook")
    kettle.settle()
    window.close_recording()
    kettle.settle()
    kettle.open(tmp_path / "kettle.wav")
    (marker,) = kettle.work.history.markers
    window.controllers.marking.choose(marker.id)
    kettle.press("Ctrl+Shift+M")
    assert kettle.work.area.area.extent == pytest.approx(area.extent, abs=1)
    kettle.press("Ctrl+Z")
    assert not kettle.work.history.markers


def test_an_area_is_typed_carried_to_the_cursor_and_stretched(kettle, window):
    def fill(dialog):
        for field, text in zip(dialog.fields, ("1s", "1.5s", "2000", "4000"), strict=True):
            field.setText(text)
        dialog.accept()

    kettle.in_dialog(fill)
    kettle.press("Ctrl+Shift+F")
    kettle.settle()
    assert kettle.work.area.area.extent == (RATE, 1.5 * RATE, 2000, 4000)
    window.bench.work.cursor = 3 * RATE
    kettle.press("Ctrl+Shift+C")
    assert kettle.work.area.area.extent[:2] == (3 * RATE, 3.5 * RATE)
    kettle.in_dialog(lambda dialog: (dialog.fields[0].setText("1s"), dialog.accept()))
    window.actions_.actions["stretch_area"].trigger()
    kettle.settle()
    assert kettle.work.area.area.extent[:2] == (3 * RATE, 4 * RATE)


def test_a_step_of_the_course_acts_in_just_the_area(kettle, window):
    window.actions_.actions["lay_peak"].trigger()
    kettle.settle()
    window.outlining.select(Area.of(Box(START, STOP, 2800, 3400)))
    kettle.settle()
    window.actions_.actions["step_over_area"].trigger()
    kettle.settle()
    (step,) = kettle.work.history.course
    assert step.settings["within_hz"] == "2800-3400"
    before, after = (v.read(0, kettle.work.frames)[:, 0] for v in (kettle.work.version, kettle.work.outcome))
    assert np.array_equal(before[: START - 2000], after[: START - 2000])
    change = np.abs(np.fft.rfft((after - before)[START + 3000 : STOP - 3000]))
    hz = np.fft.rfftfreq(STOP - START - 6000, 1 / RATE)
    assert change[(hz > 2900) & (hz < 3300)].sum() > 100 * change[(hz < 2000) | (hz > 4200)].sum() / 50


def test_what_is_lifted_out_and_what_is_left_add_up(kettle, window, tmp_path):
    window.outlining.select(Area.of(Box(START, STOP, 2800, 3400)))
    kettle.settle()
    before = kettle.work.version.read_exact(0, kettle.work.frames)
    path = tmp_path / "lifted.wav"
    window.controllers.lifting_out.lift(kettle.work, kettle.work.area, path)
    kettle.settle()
    assert "Lifted" in window.status.message.text(), window.status.message.text()
    (mend,) = kettle.work.history.mends
    lifted, rate = soundfile.read(path, dtype="float64", always_2d=True)
    after = kettle.work.version.read_exact(mend.start, mend.stop)
    assert rate == RATE
    assert np.array_equal(lifted + after, before[mend.start : mend.stop])
    assert np.abs(lifted).max() > 0.05
    window.outlining.select(Area.of(Box(START, STOP, 2800, 3400)))
    kettle.settle()
    window.controllers.lifting_out.lift(kettle.work, kettle.work.area, path)
    kettle.settle()
    assert "exists already" in window.status.message.text()
    assert len(kettle.work.history.mends) == 1
