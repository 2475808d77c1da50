"""What the command line writes where: nothing is lost, pipes and devices take what they are given."""

import json
import os
import subprocess
import sys
import threading

import pytest

from tests.sounds import voice, write
from umbrick.cli import main, methods
from umbrick.cli.output import one_line, progress_bar, write_json, write_text
from umbrick.core.errors import FileError
from umbrick.core.paths import state_folder


def test_a_document_is_written_whole_and_read_back_alike(tmp_path):
    document = {"name": "Südtor — ½", "values": [1, 2.5, None], "of": {"a": True}}
    write_json(str(tmp_path / "new.json"), document, overwrite=False)
    assert json.loads((tmp_path / "new.json").read_text(encoding="utf-8")) == document
    assert os.listdir(tmp_path) == ["new.json"]


def test_what_exists_is_replaced_only_when_that_is_asked_for(tmp_path):
    there = tmp_path / "there.txt"
    there.write_text("hours of work")
    with pytest.raises(FileError, match=r"there\.txt exists already.*--overwrite"):
        write_text(str(there), "new", overwrite=False)
    assert there.read_text() == "hours of work"
    write_text(str(there), "new", overwrite=True)
    assert there.read_text() == "new"


def test_an_empty_file_has_nothing_to_lose(tmp_path):
    empty = tmp_path / "empty.txt"
    empty.touch()
    write_text(str(empty), "new", overwrite=False)
    assert empty.read_text() == "new"


@pytest.mark.parametrize("text", ["one line", "one line\n"])
def test_a_dash_is_standard_output_with_one_line_end(text, capsys):
    write_text("-", text, overwrite=False)
    assert capsys.readouterr() == ("one line\n", "")


def test_a_pipe_takes_the_text_without_being_replaced(tmp_path):
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    read = []
    reader = threading.Thread(target=lambda: read.append(pipe.read_text()))
    reader.start()
    write_text(str(pipe), "through", overwrite=False)
    reader.join(10)
    assert read == ["through"]
    assert pipe.is_fifo()


@pytest.mark.parametrize("where", ["folder", "missing/folder/file.txt"])
def test_where_nothing_can_be_written_a_sentence_says_so(tmp_path, where):
    (tmp_path / "folder").mkdir()
    with pytest.raises(FileError) as raised:
        write_text(str(tmp_path / where), "text", overwrite=True)
    assert "cannot be written" in str(raised.value) or "no folder" in str(raised.value).lower()
    assert os.listdir(tmp_path) == ["folder"]


def test_a_sentence_of_several_lines_is_told_in_one():
    assert one_line(FileError("It is\nbroken.", "Try\n another.")) == "It is broken. Try another."


def test_the_bar_is_shown_to_people_only(capsys, monkeypatch):
    with progress_bar("Surveying", quiet=False) as to_a_pipe:
        to_a_pipe(0.5)
    assert capsys.readouterr().err == ""
    monkeypatch.setattr("sys.stderr.isatty", lambda: True)
    with progress_bar("Surveying", quiet=True) as when_quiet:
        when_quiet(0.5)
    assert capsys.readouterr().err == ""
    with progress_bar("Surveying", quiet=False) as seen:
        seen(0.25)
        seen(1.0)
    assert "Surveying" in capsys.readouterr().err


def test_what_a_name_holds_does_not_act_on_the_terminal(tmp_path, umbrick):
    path = tmp_path / "a\x1b[2Jb\u202e.wav"
    path.write_bytes(b"no sound")
    _, _, told = umbrick("survey", path)
    assert "\x1b" not in told
    assert "\u202e" not in told
    assert r"a\x1b[2Jb\u202e.wav" in told


def test_a_fault_of_our_own_is_one_line_or_all_of_it_if_asked_and_is_in_the_log(umbrick, monkeypatch, capsys):
    monkeypatch.setattr(methods, "METHODS", None)
    status, _, told = umbrick("methods")
    assert status == 1
    assert "AttributeError" in told
    assert len(told.splitlines()) == 1
    assert "in methods_command" in (state_folder() / "umbrick.log").read_text()
    monkeypatch.setenv("UMBRICK_DEBUG", "1")
    monkeypatch.setattr("sys.argv", ["umbrick", "methods"])
    with pytest.raises(SystemExit):
        main()
    assert "in methods_command" in capsys.readouterr().err


def test_that_no_one_reads_on_is_no_fault(tmp_path):
    sound = write(tmp_path / "a.wav", voice(1.0))
    command = [sys.executable, "-m", "umbrick", "survey", str(sound)]
    program = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    program.stdout.close()
    assert "fault" not in program.stderr.read()
    assert program.wait(120) == 1
    program.stderr.close()
