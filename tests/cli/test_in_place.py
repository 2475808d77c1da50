"""Putting a mended file in place of another from the command line: links, pipes, and folders without room."""

import os
import stat

import numpy as np
import pytest
import soundfile

from tests.sounds import clipped, faultless, write
from umbrick.core.sound import kept_originals
from umbrick.core.sound.kept_originals import kept_of


@pytest.fixture
def hot(tmp_path):
    sound, _, _ = clipped(faultless(1.0), 0.004, rail=0.99)
    return write(tmp_path / "hot.wav", sound)


def test_through_a_link_the_file_is_mended_and_the_link_stays(umbrick, tmp_path, hot):
    (tmp_path / "elsewhere").mkdir()
    link = tmp_path / "elsewhere" / "link.wav"
    link.symlink_to(hot)
    before = hot.read_bytes()
    assert umbrick("mend", link, "--in-place")[0] == 0
    assert link.is_symlink()
    assert hot.read_bytes() != before
    old = tmp_path / "hot.original.wav"
    assert not old.is_symlink()
    assert old.read_bytes() == before
    assert umbrick("restore", link)[0] == 0
    assert link.is_symlink()
    assert hot.read_bytes() == before


@pytest.mark.parametrize("what", ["link that leads nowhere", "pipe"])
def test_what_is_no_file_is_not_replaced(umbrick, tmp_path, hot, what):
    out = tmp_path / "out.wav"
    if what == "pipe":
        os.mkfifo(out)
    else:
        out.symlink_to(tmp_path / "nowhere.wav")
    status, _, told = umbrick("mend", hot, out, "--overwrite")
    assert status == 1
    assert "It was not touched" in told
    assert out.is_symlink() if what != "pipe" else stat.S_ISFIFO(out.lstat().st_mode)


def test_nothing_is_left_behind_where_the_old_file_cannot_be_noted(umbrick, tmp_path, hot, monkeypatch):
    (tmp_path / "full").write_text("a file where a folder should be")
    monkeypatch.setattr(kept_originals, "kept_folder", lambda: tmp_path / "full")
    before, listed = hot.read_bytes(), sorted(os.listdir(tmp_path))
    status, _, told = umbrick("mend", hot, "--in-place")
    assert status == 1
    assert "Nothing was changed" in told
    assert hot.read_bytes() == before
    assert sorted(os.listdir(tmp_path)) == listed


def test_owner_and_rights_stay_and_new_files_follow_the_umask(umbrick, tmp_path, hot):
    hot.chmod(0o640)
    old = os.umask(0o027)
    try:
        assert umbrick("mend", hot, tmp_path / "out.wav", "--report", tmp_path / "r.json")[0] == 0
        assert umbrick("mend", hot, "--in-place")[0] == 0
    finally:
        os.umask(old)
    assert hot.stat().st_mode & 0o777 == 0o640
    assert (tmp_path / "out.wav").stat().st_mode & 0o777 == 0o640
    assert (tmp_path / "r.json").stat().st_mode & 0o777 == 0o640


@pytest.mark.parametrize("name", [b"k\xe4se.wav", b"x" * 251 + b".wav"])
def test_a_name_of_any_bytes_and_length_is_put_back_and_restored(umbrick, tmp_path, hot, name):
    path = tmp_path / os.fsdecode(name)
    hot.rename(path)
    before = path.read_bytes()
    status, _, told = umbrick("mend", path, "--in-place", "--json")
    assert status == 0, told
    (old,) = kept_of(path)
    assert old.path.read_bytes() == before
    assert umbrick("restore", path)[0] == 0
    assert path.read_bytes() == before


def test_another_programs_change_of_a_compressed_file_is_noticed(umbrick, tmp_path, monkeypatch):
    path = write(tmp_path / "a.flac", faultless(1.0))
    from umbrick.cli import mend

    def meanwhile(*arguments, **how):
        write(path, 0.5 * faultless(1.0))
        return run(*arguments, **how)

    run = mend.by_plan
    monkeypatch.setattr(mend, "by_plan", meanwhile)
    status, _, told = umbrick("mend", path, "--in-place")
    assert status == 1
    assert "changed or removed by another program" in told
    assert np.abs(soundfile.read(path)[0]).max() < 0.3


def test_kinds_that_nothing_mends_say_so(umbrick, tmp_path, hot):
    status, _, told = umbrick("mend", hot, tmp_path / "out.wav", "--kinds", "hum")
    assert status == 1
    assert "There is no method yet for hum" in told
    assert not (tmp_path / "out.wav").exists()
    status, out, told = umbrick("mend", write(tmp_path / "b.wav", faultless(1.0)), tmp_path / "out.wav")
    assert status == 0
    assert "nothing was mended" in out


def test_a_codec_of_whole_blocks_is_put_back_at_its_exact_length_and_that_is_said(umbrick, tmp_path):
    sound, _, _ = clipped(faultless(1.0), 0.004, rail=0.99)
    path = write(tmp_path / "a.wav", sound, subtype="IMA_ADPCM")
    frames = soundfile.info(path).frames
    status, _, told = umbrick("mend", path, "--in-place")
    assert status == 0
    assert "16 bit now: IMA ADPCM cannot hold an exact length" in told
    assert (soundfile.info(path).frames, soundfile.info(path).subtype) == (frames, "PCM_16")
