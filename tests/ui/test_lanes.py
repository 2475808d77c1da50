"""Linked recordings in the window: which microphone it is, and one mend for all of them."""

import struct

import numpy as np
import pytest
import soundfile
import soxr
from PySide6.QtWidgets import QFileDialog

from tests.core.linking.test_alignment import event
from tests.sounds import RATE, rng, write
from tests.videos import write_video
from umbrick.core.errors import FileError
from umbrick.core.linking.alignment import align
from umbrick.core.view.window import Window
from umbrick.ui.bench import copies

OFFSETS = (0, 4800, -2400, 1000, -900, 300, 2200, -50, 777)
CRACK_AT, COUGH_AT, CRACKED = 2.6, 4.1, 5


def read(path):
    return soundfile.read(path, dtype="float32", always_2d=True)[0]


def microphones(folder, count=9, seconds=6.0):
    """Nine microphones of one room: one cracks for a moment, and all hear a cough."""
    whole = event(seconds + 1)
    at = round((COUGH_AT + 0.5) * RATE)
    whole[at : at + 9600] += 0.25 * rng(3).standard_normal(9600) * np.hanning(9600)
    paths = []
    for number, offset in zip(range(count), OFFSETS, strict=False):
        start = RATE // 2 - offset
        sound = np.roll(whole, 7 * number)[start : start + round(seconds * RATE)] * (1 - 0.05 * number)
        sound = sound + 2e-4 * rng(number).standard_normal(len(sound))
        if number == CRACKED:
            at = round(CRACK_AT * RATE) + offset
            sound[at : at + 70] += 0.2 * rng(1).standard_normal(70)
        paths.append(write(folder / f"mic-{number}.wav", sound[:, None]))
    return paths


def opened_and_linked(hands, tmp_path, count):
    paths = microphones(tmp_path, count)
    hands.open(*paths)
    bench = hands.window.bench
    bench.show_work(bench.find_open(paths[0]))
    hands.settle()
    hands.press("Ctrl+Shift+A")
    return hands


@pytest.fixture
def nine(hands, tmp_path):
    """The nine, open and linked."""
    return opened_and_linked(hands, tmp_path, 9)


@pytest.fixture
def linked(hands, tmp_path):
    """Four of them, open and linked."""
    return opened_and_linked(hands, tmp_path, 4)


def look_at(hands, seconds):
    """What the eye does: scroll there."""
    hands.window.bench.set_passage(Window((seconds - 0.5) * RATE, (seconds + 0.5) * RATE))
    hands.settle()


def click_at(hands, seconds):
    passage = hands.window.strips[1]
    hands.click(passage, passage.x_of(seconds * RATE), passage.content_rect().center().y())


def test_the_nine_are_put_on_one_clock(nine):
    lanes = nine.window.linking.linked.lanes
    assert [lane.work.name for lane in lanes] == [f"mic-{number}" for number in range(9)]
    for lane, offset in zip(lanes, OFFSETS, strict=True):
        assert abs(lane.clock.offset_frames - offset) <= 8 * 9
    panel = nine.window.lanes
    assert panel.isVisible()
    assert [head.name.text() for head in panel.heads] == [f"mic-{number}" for number in range(9)]
    shown = len(panel.images)
    assert 2 <= shown <= 6
    panel.verticalScrollBar().setValue(panel.verticalScrollBar().maximum())
    nine.settle()
    assert max(panel.images) == 8


def test_the_microphone_with_the_crack_is_found_and_mended(nine):
    """Job 16, first half: four acts."""
    hands = nine
    before = {work.name: work.version.read(0, work.frames) for work in hands.window.bench.works}
    look_at(hands, CRACK_AT)
    hands.acts = 0
    click_at(hands, CRACK_AT)
    hands.press("Ctrl+Shift+Q")
    assert hands.work.name == f"mic-{CRACKED}"
    assert "deviates" in hands.window.lanes.heads[CRACKED].name.text()
    assert hands.window.mending.offers.remedies[0].title == "From the other lanes"
    hands.press("Enter")
    assert hands.acts <= 4
    for work in hands.window.bench.works:
        changed = np.flatnonzero((work.version.read(0, work.frames) != before[work.name]).any(axis=1))
        assert bool(len(changed)) == (work.name == f"mic-{CRACKED}")
        if len(changed):
            at = round(CRACK_AT * RATE) + OFFSETS[CRACKED]
            assert at - 200 < changed[0] <= at + 2
            assert at + 66 <= changed[-1] < at + 300
            clean = work.version.read(at - 2000, at - 1000).std()
            assert work.version.read(at, at + 70).std() < 1.6 * clean


def test_a_mend_of_the_cough_goes_to_all_of_them_and_back_in_one_step(nine):
    """Job 16, second half: four acts after the cough is selected in the first lane."""
    hands = nine
    works = hands.window.bench.works
    look_at(hands, COUGH_AT + 0.1)
    passage = hands.window.strips[1]
    y = passage.content_rect().center().y()
    hands.acts = 0
    hands.drag(passage, (passage.x_of(COUGH_AT * RATE), y), (passage.x_of((COUGH_AT + 0.2) * RATE), y))
    hands.window.tools.handwork.apply("level", {"gain_db": -12.0, "ramp_ms": 20.0}, hands.work.place())
    hands.settle()
    hands.press("Ctrl+Shift+P")
    assert hands.acts <= 4
    for work, offset in zip(works, OFFSETS, strict=True):
        (mend,) = work.history.mends
        assert abs(mend.start - works[0].history.mends[0].start - offset) <= 9 * 8
    hands.press("Ctrl+Z")
    assert [len(work.history.mends) for work in works] == [1] + [0] * 8


def test_a_cut_is_made_in_all_lanes(linked):
    hands = linked
    look_at(hands, 3.0)
    hands.window.bench.select(round(3.0 * RATE), round(3.05 * RATE))
    hands.settle()
    hands.press("Backspace")
    works = hands.window.bench.works
    assert len({work.frames for work in works}) == 1
    assert works[0].frames < 6 * RATE
    hands.press("Ctrl+Z")
    assert {work.frames for work in works} == {6 * RATE}


def test_the_beginning_is_trimmed_where_microphones_were_started_one_after_another(linked):
    hands, bench = linked, linked.window.bench
    works = bench.works
    first, late = works[0], works[2]  # which begins 2400 frames after the first
    bench.select(600, 9600)
    hands.settle()
    hands.press("Backspace")
    gone = [6 * RATE - work.frames for work in works]
    assert gone[0] == gone[1] == gone[3] >= 9000
    assert abs(gone[2] - (9600 - 2400)) < 1000
    lanes = bench.set_of(first)
    there = lanes.place_in(lanes.lane_of(late), first, 60_000)
    assert np.allclose(0.9 * first.version.read(60_000, 60_400), late.version.read(there, there + 400), atol=5e-3)
    hands.press("Ctrl+Z")
    assert {work.frames for work in works} == {6 * RATE}


def test_a_length_that_is_held_refuses_the_cut_and_says_so(linked):
    hands = linked
    failures = []
    hands.window.bench.failed.connect(failures.append)
    hands.press("Alt+Shift+C")
    hands.window.bench.select(3 * RATE, 3 * RATE + 2400)
    hands.settle()
    hands.press("Backspace")
    assert "The length is held" in failures[-1]
    assert {work.frames for work in hands.window.bench.works} == {6 * RATE}


def test_lanes_are_gone_to_at_the_same_moment(linked):
    hands = linked
    look_at(hands, 2.0)
    hands.window.bench.set_cursor(2 * RATE)
    hands.press("Ctrl+Shift+G")
    assert hands.work.name == "mic-1"
    assert abs(hands.work.cursor - 2 * RATE - OFFSETS[1]) <= 8
    panel = hands.window.lanes
    hands.click(panel.heads[3].name)
    assert hands.work.name == "mic-3"


def test_what_is_heard_is_what_is_chosen(linked):
    hands = linked
    linking, work = hands.window.linking, hands.work
    assert linking.mix_for(work) == (1.0, ())
    hands.press("Alt+Shift+E")
    own, beside = linking.mix_for(work)
    assert own == 1.0
    assert len(beside) == 3
    panel = hands.window.lanes
    hands.click(panel.heads[2].switches["is_muted"])
    assert len(linking.mix_for(work)[1]) == 2
    hands.click(panel.heads[1].switches["is_solo"])
    own, (only,) = linking.mix_for(work)
    assert own == 0.0
    assert abs(only.shift - OFFSETS[1]) <= 9 * 8


def test_links_come_back_with_the_casebook(linked):
    hands = linked
    window = hands.window
    paths = [work.recording.path for work in window.bench.works]
    for work in list(window.bench.works):
        window.opening.close(work)
    hands.settle()
    assert window.linking.linked is None
    hands.open(*paths[:3])
    assert len(window.linking.linked.lanes) == 3


def test_files_dropped_together_are_offered_to_be_linked(hands, tmp_path):
    paths = microphones(tmp_path, 2)
    notices = []
    hands.window.bench.noticed.connect(notices.append)
    hands.window._open_dropped(paths)
    hands.qtbot.waitUntil(lambda: bool(notices), timeout=30_000)
    hands.settle()
    (notice,) = notices
    assert "2 recordings were dropped together" in notice.text
    notice.choices[0].do()
    hands.settle()
    assert len(hands.window.linking.linked.lanes) == 2


def test_a_recorder_of_another_rate_is_linked_by_a_copy_at_this_one(hands, tmp_path):
    first, second = microphones(tmp_path, 2)
    other = tmp_path / "recorder.wav"
    soundfile.write(other, soxr.resample(read(second), RATE, 44_100, quality="VHQ"), 44_100, "PCM_24")
    hands.open(first, other)
    bench, linking = hands.window.bench, hands.window.linking
    said = []
    bench.said.connect(said.append)
    bench.show_work(bench.find_open(first))
    for _ in range(2):
        hands.press("Ctrl+Shift+A")
        hands.qtbot.waitUntil(lambda: linking.linked is not None, timeout=60_000)
        hands.settle()
        lanes = linking.linked.lanes
        assert [lane.work.home.name for lane in lanes] == ["mic-0.wav", f"recorder-{RATE}.wav"]
        assert {lane.clock.rate for lane in lanes} == {RATE}
        assert lanes[1].clock.offset_frames == pytest.approx(OFFSETS[1] + 7, abs=1.5)
    assert len(bench.works) == 3, "linked again, it is the same copy"
    assert soundfile.info(other).samplerate == 44_100
    assert f"copies at {RATE} Hz are linked" in " ".join(said)


def test_a_recorder_is_linked_to_a_video_of_another_rate_which_keeps_its_own(hands, tmp_path):
    heard, recorded = (read(path) for path in microphones(tmp_path, 2))
    video = write_video(tmp_path / "gates.mkv", [("flac", heard)], seconds=6.0)
    recorder = tmp_path / "recorder.wav"
    soundfile.write(recorder, soxr.resample(recorded, RATE, 44_100, quality="VHQ"), 44_100, "PCM_24")
    hands.open(video, recorder)
    bench, linking = hands.window.bench, hands.window.linking
    bench.show_work(bench.find_open(recorder))
    hands.press("Ctrl+Shift+A")
    hands.qtbot.waitUntil(lambda: linking.linked is not None, timeout=60_000)
    hands.settle()
    assert [lane.work.home.name for lane in linking.linked.lanes] == [f"recorder-{RATE}.wav", "gates.mkv"]
    assert linking.linked.lanes[1].clock.offset_frames == pytest.approx(-OFFSETS[1] - 7, abs=1.5)


def test_what_is_not_of_the_event_is_left_alone_whatever_its_rate(hands, tmp_path):
    first, second = microphones(tmp_path, 2)
    video = write_video(tmp_path / "other.mkv", [("flac", event(6.0, seed=9)[:, None])], seconds=6.0)
    other = tmp_path / "other.wav"
    soundfile.write(other, event(6.0, seed=8)[:, None], 32_000, "PCM_24")
    hands.open(first, second, video, other)
    bench, linking = hands.window.bench, hands.window.linking
    bench.show_work(bench.find_open(first))
    hands.press("Ctrl+Shift+A")
    hands.settle()
    assert [lane.work.home.name for lane in linking.linked.lanes] == ["mic-0.wav", "mic-1.wav"]
    assert len(bench.works) == 4


def test_a_clock_that_drifts_is_put_right_in_a_copy(hands, tmp_path):
    whole = event(24.0)
    drifting = soxr.resample(whole, 1e6, 1e6 * (1 + 60e-6), quality="VHQ")
    hands.open(write(tmp_path / "a.wav", whole[:, None]), write(tmp_path / "b.wav", drifting[:, None]))
    bench, linking = hands.window.bench, hands.window.linking
    bench.show_work(bench.find_open(tmp_path / "a.wav"))
    hands.press("Ctrl+Shift+A")
    assert abs(linking.linked.lanes[1].clock.drift_ppm - 60) < 2
    hands.press("Ctrl+Shift+G")
    hands.window.actions_.actions["take_drift_out"].trigger()
    hands.settle()
    hands.qtbot.waitUntil(lambda: bench.find_open(tmp_path / "b-on-clock.wav") is not None, timeout=60_000)
    hands.settle()
    clock = align(bench.find_open(tmp_path / "a.wav").recording.source, hands.work.recording.source)
    assert abs(clock.drift_ppm) < 2
    assert abs(clock.offset_frames) < 1.5


def test_time_stamps_link_what_has_nothing_in_common(hands, tmp_path):
    paths = [write(tmp_path / f"{n}.wav", event(3.0, seed=n)[:, None]) for n in range(2)]
    for path, began in zip(paths, (480_000, 470_000), strict=True):
        stamp(path, began)
    hands.open(*paths)
    bench = hands.window.bench
    bench.show_work(bench.find_open(paths[0]))
    hands.press("Ctrl+Shift+A")
    lanes = hands.window.linking.linked.lanes
    assert [lane.clock.offset_frames for lane in lanes] == [0.0, 10_000.0]
    assert "by its time stamp" in hands.window.status.message.text()


def test_a_lane_is_dragged_against_the_first_which_stays(linked):
    hands = linked
    hands.window.bench.set_passage(Window(RATE, 2 * RATE))
    hands.settle()
    panel, linking = hands.window.lanes, hands.window.linking
    lanes, body = linking.linked.lanes, panel.widget()
    row = panel.rows()[1]
    before = lanes[1].clock.offset_frames
    start, y = row.left() + 200, row.center().y()
    said = []

    def look():
        said.append(body._drag_told())

    hands.drag(body, (start, y), (start + row.width() / 10, y), "Shift", on_the_way=look)
    hands.settle()
    moved = linking.linked.lanes[1].clock.offset_frames - before
    assert moved == pytest.approx(-RATE / 10, abs=RATE / row.width())
    assert said == ["100 ms later"]
    first = panel.rows()[0]
    hands.drag(body, (start, first.center().y()), (start + 100, first.center().y()), "Shift")
    hands.settle()
    assert linking.linked.lanes[0].clock.offset_frames == 0
    assert "no offset" in hands.window.status.message.text()


def test_what_is_named_alike_is_opened_and_linked(hands, tmp_path):
    paths = microphones(tmp_path, 3)
    write(tmp_path / "other.wav", event(2.0)[:, None])
    hands.open(paths[0])
    hands.window.actions_.actions["open_fellows"].trigger()
    hands.settle()
    assert [lane.work.name for lane in hands.window.linking.linked.lanes] == ["mic-0", "mic-1", "mic-2"]
    assert hands.work.name == "mic-0"
    hands.open(tmp_path / "other.wav")
    hands.window.bench.show_work(hands.window.bench.find_open(tmp_path / "other.wav"))
    hands.window.actions_.actions["open_fellows"].trigger()
    hands.settle()
    assert "Nothing beside other.wav" in hands.window.status.message.text()


def test_channels_become_lanes_and_lanes_become_channels(hands, tmp_path, monkeypatch):
    sound = np.stack([event(2.0, seed=n) for n in range(3)], axis=1)
    hands.open(write(tmp_path / "field.wav", sound))
    hands.window.actions_.actions["channels_as_lanes"].trigger()
    hands.qtbot.waitUntil(lambda: hands.window.linking.linked is not None, timeout=60_000)
    hands.settle()
    lanes = hands.window.linking.linked.lanes
    assert [lane.work.name for lane in lanes] == ["field-1", "field-2", "field-3"]
    assert [lane.clock.offset_frames for lane in lanes] == [0, 0, 0]
    for channel, lane in enumerate(lanes):
        own = lane.work.recording.source
        assert np.array_equal(own.read(0, own.frames)[:, 0], read(tmp_path / "field.wav")[:, channel])
    hands.window.linking.set_offset(500, lanes[1])
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "field.wav"), ""))
    hands.window.actions_.actions["lanes_as_channels"].trigger()
    hands.settle()
    assert "another name" in hands.window.status.message.text()
    target = tmp_path / "one.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    hands.window.actions_.actions["lanes_as_channels"].trigger()
    hands.qtbot.waitUntil(target.exists, timeout=60_000)
    hands.settle()
    assert "3 channels" in hands.window.status.message.text()
    joined, whole = read(target), read(tmp_path / "field.wav")
    assert len(joined) == len(whole) - 500
    assert np.array_equal(joined[:, 0], whole[:-500, 0])
    assert np.array_equal(joined[:, 1], whole[500:, 1])


def test_channels_that_have_no_room_leave_nothing_behind(hands, tmp_path, monkeypatch):
    hands.open(write(tmp_path / "field.wav", np.stack([event(1.0, seed=n) for n in range(2)], axis=1)))
    real, count = copies.save, iter(range(9))

    def full(*arguments, **named):
        if next(count) == 1:
            raise FileError("There is no room left on the disk.", "")
        return real(*arguments, **named)

    monkeypatch.setattr(copies, "save", full)
    hands.window.actions_.actions["channels_as_lanes"].trigger()
    hands.settle()
    assert "no room left" in hands.window.status.message.text()
    assert [path.name for path in tmp_path.glob("*.wav")] == ["field.wav"]


def stamp(path, began):
    """Give a WAV file a ``bext`` chunk whose time reference is a frame."""
    body = bytes(338) + struct.pack("<Q", began) + bytes(602 - 346)
    data = path.read_bytes() + b"bext" + struct.pack("<I", len(body)) + body
    path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])
