"""The sound of a video in the window: its picture, its tracks, and putting it back in sync."""

import json

import numpy as np
import pytest

from tests.sounds import RATE, faultless, voice, write
from tests.videos import packets_of, write_video
from umbrick.core.sound.recording import open_recording
from umbrick.demo import recordings, truth_of


@pytest.fixture
def gates(hands):
    """The demo's video, open and surveyed."""
    path = next(path for path in recordings() if path.suffix == ".mkv")
    hands.open(path)
    hands.press("F5")
    hands.acts = 0
    return path, json.loads(truth_of(path).read_text())["planted"]


def test_the_picture_follows_the_cursor_and_is_stepped_through(hands, gates):
    pane, picturing = hands.window.picture, hands.window.picturing
    assert pane.isVisible()
    hands.window.bench.set_cursor(2 * RATE + 10)
    hands.settle()
    assert pane.field.text() == "00:00:02:00"
    first = picturing.image
    hands.press("Ctrl+Alt+Right")
    assert (pane.field.text(), hands.work.cursor) == ("00:00:02:01", round(2.04 * RATE))
    hands.press("Ctrl+Alt+Left")
    assert (pane.field.text(), hands.work.cursor) == ("00:00:02:00", 2 * RATE)
    hands.type("00:00:09:12\n", pane.field)
    assert hands.work.cursor == round(9.48 * RATE)
    assert picturing.image != first
    assert "25 pictures a second · in sync" in pane.facts.text()


def test_a_gap_in_sound_that_is_locked_to_picture_is_filled(hands, gates, tmp_path):
    """Job 4: at most four acts, length and sync unchanged."""
    _, planted = gates
    (hole,) = (fault for fault in planted if fault["kind"] == "dropout")
    before = hands.work.version.read(0, hands.work.frames)
    hands.acts = 0
    hands.press("Alt+Shift+C")
    hands.press("N")
    while hands.work.focus.kind != "dropout":
        hands.window.bench.focus_neighbour(1)
        hands.settle()
    hands.press("Enter")
    assert hands.acts <= 4
    after = hands.work.version.read(0, hands.work.frames)
    assert len(after) == len(before)
    changed = np.flatnonzero((after != before).any(axis=1))
    assert hole["start"] - 50 < changed[0]
    assert changed[-1] < hole["end"] + 50
    assert after[hole["start"] : hole["end"]].std() > 0.01
    assert hands.window.picturing.sync() == (0.0, 0.0)


def test_what_is_out_of_sync_is_told_in_pictures(hands, gates):
    hands.window.bench.select(5 * RATE, 5 * RATE + 3840)
    hands.settle()
    hands.window.tools.handwork.apply("splice", {"search_ms": 0.0, "crossfade_ms": 5.0}, hands.work.place())
    hands.settle()
    assert "(−2.0 pictures)" in hands.window.status.debt.text()
    hands.window.bench.set_cursor(8 * RATE)
    hands.settle()
    assert "sound 80 ms (2.0 pictures) early" in hands.window.picture.facts.text()


def test_the_mended_sound_goes_back_beside_the_picture(hands, tmp_path):
    sound = np.round(faultless(2.0) * 2**23) / 2**23
    path = write_video(tmp_path / "a.mkv", [("flac", sound), ("flac", voice(2.0))])
    packets, old = packets_of(path, but=(1,)), path.read_bytes()
    hands.open(path)
    hands.window.bench.select(RATE, RATE + 4800)
    hands.settle()
    hands.window.tools.handwork.apply("level", {"gain_db": -6.0, "ramp_ms": 10.0}, hands.work.place())
    hands.settle()
    hands.press("F2")
    assert hands.work.recording.path != path
    assert hands.work.recording.path.read_bytes() == old
    assert packets_of(path, but=(1,)) == packets
    written = open_recording(path, tmp_path / "cache")
    now = written.source.read_exact(0, written.source.frames)
    written.close()
    assert np.array_equal(now[: RATE - 100], sound[: RATE - 100])
    assert not np.allclose(now[RATE + 2000 : RATE + 2500], sound[RATE + 2000 : RATE + 2500], atol=1e-4)


def test_other_tracks_are_offered_and_opened(hands, tmp_path):
    path = write_video(tmp_path / "a.mkv", [("flac", voice(1.0)), ("flac", voice(1.0, seed=4))])
    notices = []
    hands.window.bench.noticed.connect(notices.append)
    hands.open(path)
    (notice,) = [one for one in notices if "sound tracks" in one.text]
    assert "2 sound tracks; Track 0, Microphone 0" in notice.text
    notice.choices[0].do()
    hands.settle()
    assert hands.work.name == "a, track 1"
    assert len(hands.window.bench.works) == 2
    assert hands.window.picture.isVisible()


def test_a_sound_file_has_no_picture(hands, tmp_path):
    hands.open(write(tmp_path / "a.wav", voice(1.0)))
    assert hands.window.picture.isHidden()
    assert "not the sound of a video" in hands.window.actions_.actions["picture_on"].toolTip()
