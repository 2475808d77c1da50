import json
import shutil

import numpy as np
import pytest
import soundfile

from tests.sounds import clipped, faultless, write
from umbrick.casebook.casebook import Casebook
from umbrick.casebook.surveys import Surveyed
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.recording import open_recording
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor


@pytest.fixture
def worked(tmp_path):
    """A casebook with one recording, surveyed and mended."""
    recording = open_recording(write(tmp_path / "hot.wav", clipped(faultless(1.0), 0.004)[0]), tmp_path / "cache")
    casebook = Casebook.create(tmp_path / "work.casebook")
    shelf = casebook.add(recording)
    survey = Surveyor(recording.source, 24, list(KINDS.values())).run()
    shelf.write_survey(Surveyed(survey, 1, survey.table))
    history = shelf.history(recording.source).history
    places = [Place.of(finding) for finding in survey.table.findings[:3]]
    mended = apply_method(history.current, method_named("declip"), {}, places)
    shelf.commit(history, mended.edit("declip"), mended.version)
    casebook.close()
    recording.close()
    return tmp_path / "work.casebook", len(mended.mends)


def test_a_casebook_is_reported_as_page_table_and_json(umbrick, tmp_path, worked):
    status, out, err = umbrick("report", "work.casebook", "--html", "r.html", "--csv", "r.csv", "--json", "r.json")
    assert status == 0, err
    assert f"{worked[1]} mend" in out
    entry = json.loads((tmp_path / "r.json").read_text())["recordings"][0]
    assert len(entry["mends"]) == worked[1]
    assert {f["state"] for f in entry["findings"]} == {"mended", "open"}
    assert entry["measures_after"]["peak_dbfs"] >= entry["measures_before"]["peak_dbfs"]
    assert len(entry["sha256"]) == 64
    assert (tmp_path / "r.html").read_text().count("<polyline") == 2 * worked[1]
    assert "declip" in (tmp_path / "r.csv").read_text()
    status, _, err = umbrick("report", "work.casebook", "--json", "r.json")
    assert (status, "exists already" in err) == (1, True)


def test_a_casebook_whose_recording_is_gone_still_tells_what_was_done(umbrick, tmp_path, worked):
    (tmp_path / "hot.wav").unlink()
    status, _, err = umbrick("report", "work.casebook", "--html", "r.html", "--json", "-")
    assert status == 0, err
    assert "was not found: no pictures" in (tmp_path / "r.html").read_text()


def test_a_plain_file_is_surveyed_for_its_report(umbrick, tmp_path, worked):
    status, out, _ = umbrick("report", "hot.wav", "--json", "-", "--quiet")
    assert status == 0
    entry = json.loads(out)["recordings"][0]
    assert entry["mends"] == []
    assert entry["findings"]


def test_a_strange_or_missing_file_is_one_line(umbrick, tmp_path):
    (tmp_path / "x.casebook").write_text("no")
    for name in ("x.casebook", "gone.casebook"):
        status, _, err = umbrick("report", name, "--json", "-")
        assert status == 1
        assert len(err.strip().splitlines()) == 1


def test_what_was_replaced_in_place_is_restored_by_one_command(umbrick, tmp_path):
    path = write(tmp_path / "hot.wav", clipped(faultless(1.0), 0.004)[0])
    old = path.read_bytes()
    assert umbrick("mend", "hot.wav", "--in-place")[0] == 0
    assert path.read_bytes() != old
    assert (tmp_path / "hot.original.wav").read_bytes() == old
    status, out, err = umbrick("restore", "hot.wav")
    assert status == 0, err
    assert "hot.original.wav" in out
    assert path.read_bytes() == old
    status, _, err = umbrick("restore", "hot.wav", "--json")
    assert (status, "No old file" in err) == (1, True)


def test_a_mended_wav_says_so_in_its_coding_history(umbrick, tmp_path):
    from tests.core.sound.test_metadata import chunks_of, with_chunks

    with_chunks(write(tmp_path / "hot.wav", clipped(faultless(1.0), 0.004)[0]))
    assert umbrick("mend", "hot.wav", "out.wav")[0] == 0
    line = chunks_of(tmp_path / "out.wav")[b"bext"][602:].decode()
    assert line.startswith("A=PCM,F=48000,W=24,M=mono,T=Umbrick")
    assert "declip" in line


def test_editing_for_another_program_needs_one_file_that_is_there(umbrick, tmp_path):
    write(tmp_path / "a.wav", np.zeros((10, 1)))
    assert umbrick("--edit", "gone.wav")[0] == 1
    assert umbrick("--edit", "a.wav", "survey", "a.wav")[0] == 2
    shutil.rmtree(tmp_path / "cache", ignore_errors=True)
    assert soundfile.info(tmp_path / "a.wav").frames == 10
