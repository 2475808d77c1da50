"""Files on their way: whole or not there, their own, and swept when a killed process has left them."""

import errno
import fcntl
import os
import time

import pytest

from umbrick.core.errors import FileError
from umbrick.core.sound.part_file import PartFile, real_target, sweep, write_all


def aged(path, seconds=3600):
    then = time.time() - seconds
    os.utime(path, (then, then))
    return path


def test_it_takes_its_name_whole_with_the_rights_of_what_it_replaces(tmp_path):
    target = tmp_path / "a.txt"
    target.write_text("old")
    target.chmod(0o604)
    with PartFile(tmp_path) as part:
        part.write(b"new")
        assert target.read_text() == "old"
        part.take_name(target, like=target)
    assert target.read_text() == "new"
    assert target.stat().st_mode & 0o777 == 0o604
    assert os.listdir(tmp_path) == ["a.txt"]


def test_what_does_not_take_its_name_is_gone(tmp_path):
    def give_up():
        with PartFile(tmp_path) as part:
            part.write(b"half")
            raise RuntimeError

    with pytest.raises(RuntimeError):
        give_up()
    assert os.listdir(tmp_path) == []


def test_a_link_planted_under_a_guessed_name_is_not_followed(tmp_path):
    victim = tmp_path / "victim"
    victim.write_text("precious")
    for guess in (".umbrick-.part", f".a.txt.{os.getpid()}.part", ".a.txt.part"):
        (tmp_path / guess).symlink_to(victim)
    with PartFile(tmp_path) as part:
        part.write(b"x")
        part.take_name(tmp_path / "a.txt")
    sweep(tmp_path)
    assert victim.read_text() == "precious"


def test_only_what_is_ours_old_and_in_nobodys_hand_is_swept(tmp_path):
    left = tmp_path / ".umbrick-left.part.wav"
    held = tmp_path / ".umbrick-held.part"
    young = tmp_path / ".umbrick-young.part"
    others = tmp_path / ".a.wav.123.part"
    for path in (left, held, young, others):
        path.write_bytes(b"x")
    for path in (left, held, others):
        aged(path)
    with held.open("rb") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        sweep(tmp_path)
    assert not left.exists()
    assert held.exists()
    assert young.exists()
    assert others.exists()
    sweep(tmp_path / "nowhere")


def test_all_is_written_where_a_disk_takes_a_part_at_a_time(tmp_path, monkeypatch):
    real_write = os.write
    monkeypatch.setattr(os, "write", lambda handle, data: real_write(handle, bytes(data[:7])))
    with (tmp_path / "a").open("wb", buffering=0) as file:
        write_all(file.fileno(), bytes(range(250)))
    assert (tmp_path / "a").read_bytes() == bytes(range(250))


def test_a_target_is_the_file_that_a_link_leads_to_and_nothing_else(tmp_path):
    file, link = tmp_path / "a", tmp_path / "b"
    file.touch()
    link.symlink_to(file)
    assert real_target(link) == file
    assert real_target(tmp_path / "new") == tmp_path / "new"
    file.unlink()
    with pytest.raises(FileError, match="leads nowhere"):
        real_target(link)
    with pytest.raises(FileError, match="not a file"):
        real_target(tmp_path)
    (tmp_path / "loop").symlink_to(tmp_path / "loop")
    for name in ("loop", "x" * 300):
        with pytest.raises(FileError, match="cannot be written"):
            real_target(tmp_path / name)


@pytest.mark.parametrize("has_links", [True, False])
def test_a_free_name_is_taken_once_also_where_files_have_but_one_name(tmp_path, monkeypatch, has_links):
    def refuse(*_):
        raise PermissionError(errno.EPERM, os.strerror(errno.EPERM))

    if not has_links:
        monkeypatch.setattr(os, "link", refuse)
    target = tmp_path / "a.txt"
    with PartFile(tmp_path) as part:
        part.write(b"new")
        part.take_free_name(target)
    assert target.read_text() == "new"
    assert os.listdir(tmp_path) == ["a.txt"]
    with PartFile(tmp_path) as part, pytest.raises(FileExistsError):
        part.take_free_name(target)
    assert target.read_text() == "new"
