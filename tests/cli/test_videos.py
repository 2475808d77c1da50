"""The sound of a video through the command line."""

import json

import numpy as np

from tests.sounds import RATE, clipped, faultless
from tests.videos import packets_of, write_video
from umbrick.core.sound.recording import open_recording


def video(tmp_path):
    """A video with a clean track, and one that was clipped."""
    whole = faultless(2.0)
    cut, _, _ = clipped(faultless(2.0, seed=3), 0.004)
    return write_video(tmp_path / "gates.mkv", [("flac", whole), ("flac", cut)]), cut


def test_the_chosen_track_is_surveyed(tmp_path, umbrick):
    path, _ = video(tmp_path)
    counts = []
    for track in ([], ["--track", "0"], ["--track", "1"]):
        status, out, _ = umbrick("survey", path, "--kinds", "clipping", "--json", "-", *track)
        assert status == 0
        counts.append(len(json.loads(out)["recordings"][0]["findings"]))
    assert counts[0] == counts[1] == 0 < counts[2]
    status, _, err = umbrick("survey", path, "--track", "2")
    assert status == 1
    assert "no track 2" in err


def test_a_mended_track_goes_back_beside_the_picture(tmp_path, umbrick):
    path, cut = video(tmp_path)
    target = tmp_path / "mended.mkv"
    assert umbrick("mend", path, target, "--track", "1", "--kinds", "clipping", "--quiet")[0] == 0
    assert packets_of(path, but=(2,)) == packets_of(target, but=(2,))
    recording = open_recording(target, tmp_path / "cache", 1)
    mended = recording.source.read(0, recording.source.frames)
    recording.close()
    assert len(mended) == len(cut)
    assert not np.allclose(mended, cut, atol=0.01)


def test_a_video_is_replaced_in_place_and_the_old_one_kept(tmp_path, umbrick):
    path, _ = video(tmp_path)
    old, packets = path.read_bytes(), packets_of(path, but=(2,))
    status, out, _ = umbrick("mend", path, "--in-place", "--track", "1", "--kinds", "clipping")
    assert status == 0
    kept = [one for one in tmp_path.iterdir() if one != path and one.suffix == ".mkv"]
    assert [one.read_bytes() for one in kept] == [old]
    assert kept[0].name in out
    assert packets_of(path, but=(2,)) == packets


def test_a_change_of_length_is_told_as_the_picture_has_none(tmp_path, umbrick):
    path, _ = video(tmp_path)
    where = f"{RATE}-{RATE + 4800}"
    status, _, err = umbrick(
        "mend", path, tmp_path / "b.mkv", "--method", "splice", "--at", where, "--set", "time=close"
    )
    assert status == 0
    assert "shorter than it was, and the picture is not" in err
