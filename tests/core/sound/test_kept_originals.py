import os

import pytest

from tests.core.sound.test_saving import copy
from tests.sounds import sine, write
from umbrick.core.errors import FileError
from umbrick.core.sound.content import Content, Fate
from umbrick.core.sound.kept_originals import bring_back, free_name, kept_folder, kept_of, write_down


def put_back(path, gain_db):
    kept = free_name(path.parent, path, "original")
    copy(path, path, overwrite=True, keep_as=kept, gain_db=gain_db, on_kept=lambda: write_down(path, kept))
    return kept


def test_the_old_file_comes_back_by_its_place_alone_and_the_mended_one_is_kept(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    old = path.read_bytes()
    kept = put_back(path, -6.0)
    mended = path.read_bytes()
    back, replaced = bring_back(path)
    assert (back.path, replaced) == (kept, tmp_path / "a.mended.wav")
    assert (path.read_bytes(), replaced.read_bytes(), kept.read_bytes()) == (old, mended, old)
    with pytest.raises(FileError, match="No old file"):
        bring_back(path)


def test_the_newest_of_several_old_files_comes_back_first(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    first, second = put_back(path, -6.0), put_back(path, -6.0)
    assert [kept.path for kept in kept_of(path)] == [second, first]
    second.unlink()
    assert bring_back(path)[0].path == first


def test_notes_that_make_no_sense_are_passed_over(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    kept = put_back(path, -6.0)
    for number, text in enumerate(("", "{}", "[1]", '{"home": 1, "path": 2, "at": "x"}')):
        (kept_folder() / f"{number}.json").write_text(text)
    assert [old.path for old in kept_of(path)] == [kept]


def test_a_file_without_its_place_comes_back_to_it(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    old = path.read_bytes()
    put_back(path, -6.0)
    path.unlink()
    assert bring_back(path)[1] is None
    assert path.read_bytes() == old


def test_content_outlives_being_replaced_but_not_being_written_over(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    old = path.read_bytes()
    content = Content(path)
    assert content.fate(path) is Fate.SAME
    other = write(tmp_path / "b.wav", sine(seconds=0.5))
    os.replace(other, path)
    assert content.fate(path) is Fate.REPLACED
    content.copy_to(tmp_path / "c.wav")
    assert (tmp_path / "c.wav").read_bytes() == old
    content.close()
    content = Content(path)
    write(path, sine(seconds=0.25))
    assert content.fate(path) is Fate.REWRITTEN
    content.close()
