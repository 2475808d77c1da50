import numpy as np
import pytest
from PySide6.QtCore import QPoint
from PySide6.QtTest import QTest

from tests.sounds import RATE, sine, voice, write
from tests.ui.conftest import focus_longest, has_color
from umbrick.core.view.window import Window
from umbrick.ui.bench.bench import LONGEST_LOUPE, SHORTEST_LOUPE
from umbrick.ui.strips.wave_image import columns_of


@pytest.fixture
def whole(window):
    return window.strips[0]


@pytest.fixture
def passage(window):
    return window.strips[1]


@pytest.fixture
def loupe(window):
    return window.strips[2]


@pytest.fixture
def long(hands, tmp_path):
    hands.open(write(tmp_path / "long.wav", np.tile(voice(4.0), (5, 1))))
    return hands


def test_the_wheel_scrolls_and_with_ctrl_zooms_about_the_pointer(long, passage):
    start = long.work.passage
    long.wheel(passage, -2, 100)
    assert long.work.passage.start > start.start
    assert long.work.passage.length == start.length
    under = passage.frame_at(300)
    long.wheel(passage, 3, 300, modifier="Ctrl")
    assert long.work.passage.length < start.length
    assert passage.frame_at(300) == pytest.approx(under, abs=1)


def test_zooming_goes_from_everything_to_fractions_of_a_second(long, passage):
    long.press("0")
    assert (long.work.passage.start, long.work.passage.stop) == (0, long.work.frames)
    for _ in range(30):
        long.press("+")
    assert long.work.passage.length == pytest.approx(0.02 * RATE)
    long.press("-")
    assert long.work.passage.length > 0.02 * RATE


def test_the_loupe_shows_from_24_to_4000_samples(long, loupe, window):
    for _ in range(30):
        long.press("Ctrl++")
    assert long.work.loupe.length == pytest.approx(SHORTEST_LOUPE)
    for _ in range(40):
        long.press("Ctrl+-")
    assert LONGEST_LOUPE / 2 < long.work.loupe.length <= LONGEST_LOUPE
    assert "4000 samples" in window.status.message.text()


def test_a_drag_selects_and_its_edges_can_be_dragged(long, passage, window):
    y = passage.content_rect().center().y()
    long.drag(passage, (100, y), (300, y))
    start, stop = long.work.selection.span
    assert start == pytest.approx(passage.frame_at(100), abs=1)
    assert stop == pytest.approx(passage.frame_at(300), abs=1)
    assert "selected" in window.status.selection.text()
    long.drag(passage, (300, y), (400, y))
    assert long.work.selection.start == start
    assert long.work.selection.stop == pytest.approx(passage.frame_at(400), abs=1)
    assert has_color(passage, window.theme.selection)
    long.click(passage, 500, y)
    assert long.work.selection is None
    assert long.work.cursor == pytest.approx(passage.frame_at(500), abs=1)


def test_the_loupe_selects_single_samples(long, loupe):
    y = loupe.content_rect().center().y()
    spacing = loupe.width() / long.work.loupe.length
    long.drag(loupe, (spacing * 10.5, y), (spacing * 10.5 + 4, y))
    start, stop = long.work.selection.span
    assert (start, stop) == (10, 11) or stop - start <= 2
    long.drag(loupe, (spacing * 20.5, y), (spacing * 24.5, y))
    assert long.work.selection.span == (20, 25)


def test_a_drag_in_the_ruler_moves_and_zooms(long, passage):
    before = long.work.passage
    y = passage.height() - 6
    long.bench_window = before
    long.wheel(passage, -4, 100)
    start = long.work.passage.start
    long.drag(passage, (300, y), (400, y))
    assert long.work.passage.start < start
    assert long.work.passage.length == pytest.approx(before.length, rel=0.05)
    QTest.mousePress(passage, *_left(), pos=QPoint(300, y))
    QTest.mouseMove(passage, QPoint(300, y - 60))
    QTest.mouseRelease(passage, *_left(), pos=QPoint(300, y - 60))
    assert long.work.passage.length < before.length * 0.7


def _left():
    from PySide6.QtCore import Qt

    return (Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)


def test_the_frame_in_the_whole_moves_the_passage_and_its_edges_zoom_it(long, whole):
    y = whole.content_rect().center().y()
    long.drag(whole, (whole.x_of(2 * RATE), y), (whole.x_of(6 * RATE), y))
    assert long.work.passage.start == pytest.approx(4 * RATE, rel=0.05)
    long.drag(whole, (whole.x_of(long.work.passage.stop), y), (whole.x_of(14 * RATE), y))
    assert long.work.passage.stop == pytest.approx(14 * RATE, rel=0.02)
    long.click(whole, whole.x_of(18 * RATE), y)
    assert long.work.passage.stop == long.work.frames
    assert long.work.cursor == pytest.approx(18 * RATE, rel=0.01)


def test_position_level_and_sample_under_the_pointer_are_exact(hands, tmp_path, loupe, passage, window):
    sound = sine(level=0.5)
    hands.open(write(tmp_path / "a.wav", sound))
    frame = 40
    QTest.mouseMove(loupe, QPoint(round(loupe.x_of(frame + 0.5)), 50))
    text = window.status.place.text()
    assert "sample 40" in text
    stored = hands.work.version.read(40, 41)[0, 0]
    assert f"{stored:+.6f}".replace("-", "−") in text
    QTest.mouseMove(passage, QPoint(200, round(passage.content_rect().center().y())))
    assert "peak −6.0 dBFS" in window.status.place.text()
    assert f"0:00.{round(200 * passage.frame_at(1) / RATE * 1000) % 1000:03d}"[:6] in window.status.place.text()


def test_keys_move_the_cursor_by_samples(long):
    long.press("Home")
    for key in ("Right", "Right", "Shift+Right", "Left"):
        long.press(key)
    assert long.work.cursor == 11
    long.press("End")
    assert long.work.cursor == long.work.frames
    assert long.work.passage.stop == long.work.frames
    long.press("PgUp")
    assert long.work.passage.stop < long.work.frames


def test_one_clipped_sample_is_seen_in_the_whole(hands, tmp_path, whole, window):
    sound = 0.3 * voice(20.0)
    sound[10 * RATE] = 1.4
    hands.open(write(tmp_path / "a.wav", sound, subtype="FLOAT"))
    rect = whole.content_rect()
    middle = whole.x_of(10 * RATE)
    rect.setLeft(middle - 3)
    rect.setRight(middle + 3)
    assert has_color(whole, window.theme.wrong, rect)
    rect.translate(60, 0)
    assert not has_color(whole, window.theme.wrong, rect)


def test_each_channel_has_its_lane_and_the_loupe_follows_a_click(hands, tmp_path, passage, loupe, window):
    hands.open(write(tmp_path / "a.wav", np.hstack([0.9 * voice(2.0), 0.1 * voice(2.0)])))
    lanes = passage.lanes(hands.work, passage.content_rect())
    assert len(lanes) == 2
    hands.click(passage, 300, lanes[1].center().y())
    assert hands.work.channel == 1
    hands.press("C")
    assert hands.work.channel == 0


def test_rebuilt_peaks_are_drawn_above_full_scale_with_room(surveyed, passage, loupe, window):
    hands = surveyed
    focus_longest(hands)
    assert window.viewing.shown_top(hands.work) > 1.08
    assert has_color(loupe, window.theme.mended)
    assert has_color(loupe, window.theme.wrong)
    hands.press("B")
    assert not has_color(loupe, window.theme.mended)


def test_dots_sit_on_the_samples(hands, tmp_path, loupe, window):
    hands.open(write(tmp_path / "a.wav", sine(2000.0, level=0.9)))
    while hands.work.loupe.length > 40:
        hands.press("Ctrl++")
    content = loupe.picture.content
    values = np.concatenate([content.shown, content.shown_curve, [0.0]])
    room = (values.max() - values.min()) * 0.12
    rect = loupe.content_rect()
    image = loupe.grab().toImage()
    for frame in (int(hands.work.loupe.start) + step for step in (5, 12, 19)):
        value = content.shown[frame - content.first]
        y = loupe.height_of(value, rect, values.min() - room, values.max() + room)
        assert image.pixelColor(round(loupe.x_of(frame + 0.5)), round(y)).name() == window.theme.body.lower()


def test_columns_touched_by_spans():
    marked = columns_of([(0, 1), (50, 60), (99, 100), (500, 600)], 0, 100, 10)
    assert np.flatnonzero(marked).tolist() == [0, 5, 9]
    assert not columns_of([], 0, 100, 10).any()


def test_a_stale_picture_is_moved_until_the_new_one_is_ready(long, passage, window):
    window.bench.set_passage(Window(2 * RATE, 6 * RATE))
    assert passage.picture.window != long.work.passage
    assert not passage.grab().isNull()
    long.settle()
    assert passage.picture.window == long.work.passage


def test_before_is_drawn_around_the_same_sound_when_the_length_has_changed(hands, tmp_path):
    beep = np.zeros((4 * 48000, 1), np.float32)
    beep[150_000:150_200] = 0.8
    hands.open(write(tmp_path / "beep.wav", beep))
    hands.window.bench.select(20_000, 68_000)
    hands.press("Ctrl+X")
    work, strip = hands.work, hands.window.strips[1]
    assert work.frames == len(beep) - 48_000
    hands.window.bench.set_passage(Window(100_000, 104_000))
    hands.window.bench.set_cursor(102_100)
    hands.settle()
    after = np.flatnonzero(strip.picture.content.extent.high[:, 0] > 0.5)
    x = strip.x_of(102_000)
    hands.press("B")
    before = np.flatnonzero(strip.picture.content.extent.high[:, 0] > 0.5)
    assert np.array_equal(before, after), "the beep stays where it is on screen"
    assert strip.x_of(102_000) == pytest.approx(x, abs=1)
    assert strip.frame_at(x) == pytest.approx(102_000, abs=6)
