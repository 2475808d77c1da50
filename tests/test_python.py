"""The Python surface: stable names, the command line's samples, and no interface loaded."""

import doctest
import json
import subprocess
import sys

import numpy as np
import pytest
import soundfile

import umbrick
import umbrick.api
from tests.sounds import RATE, clipped, faultless, voice, write
from tests.videos import write_video
from umbrick.work.batch import cluster


@pytest.fixture(autouse=True)
def own_home(monkeypatch, tmp_path):
    monkeypatch.setenv("UMBRICK_HOME", str(tmp_path / "home"))


@pytest.fixture
def hot(tmp_path):
    return write(tmp_path / "hot.wav", clipped(faultless(2.0), 0.004)[0])


def test_the_examples_in_the_documentation_work():
    assert doctest.testmod(umbrick.api).failed == 0


def test_what_the_contract_names_is_there(hot):
    for name in ("open", "Recording", "Findings", "Finding", "Regimen", "batch", "report", "UmbrickError"):
        assert name in dir(umbrick)
        assert getattr(umbrick, name)
    with pytest.raises(AttributeError):
        umbrick.nothing  # noqa: B018
    with umbrick.open(hot) as recording:
        assert (recording.rate, recording.channels, recording.frames) == (RATE, 1, 2 * RATE)
        assert recording.path == hot
        samples = recording.samples(100, 200)
        assert (samples.dtype, samples.shape) == (np.float32, (100, 1))
        assert np.array_equal(recording.samples()[:, 0], soundfile.read(hot, dtype="float32")[0])
        assert recording.measures()["clipped_share"] > 0
        findings = recording.survey(kinds=["clipping"])
        first = findings[0]
        assert (first.kind, first.channels) == ("clipping", (0,))
        assert 0 <= first.start < first.end
        assert 0 < first.severity <= 1
        assert 0 < first.confidence <= 1
        assert first.evidence
        told = json.loads(findings.to_json())
        assert told["schema"] == "umbrick.findings/1"
        assert len(told["recordings"][0]["findings"]) == len(findings)


def test_mending_is_what_the_command_line_does(hot, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    run = [sys.executable, "-m", "umbrick", "mend", str(hot)]
    subprocess.run([*run, "a.wav", "--quiet", "--subtype", "FLOAT"], check=True)
    subprocess.run([*run, "b.wav", "--quiet", "--subtype", "FLOAT", "--method", "level", "--at", "1000-9000",
                    "--set", "gain_db=-6"], check=True)  # fmt: skip
    regimen = {"schema": "umbrick.regimen/1", "name": "R", "steps": [
        {"method": "declip", "where": "findings:clipping"}, {"method": "dc"},
        {"method": "filter", "set": {"shape": "low_cut", "frequency_hz": 50}}]}  # fmt: skip
    (tmp_path / "r.json").write_text(json.dumps(regimen))
    subprocess.run([*run, "c.wav", "--quiet", "--subtype", "FLOAT", "--regimen", "r.json"], check=True)
    with umbrick.open(hot) as recording:
        ours = (
            recording.mend(),
            recording.mend(method="level", at=[(1000, 9000)], gain_db=-6),
            umbrick.Regimen.load("r.json").run(recording),
        )
        for name, one in zip("abc", ours, strict=True):
            one.save(tmp_path / f"{name}2.wav", subtype="FLOAT")
            assert np.array_equal(soundfile.read(f"{name}.wav")[0], soundfile.read(f"{name}2.wav")[0]), name
        assert recording.frames == 2 * RATE
        assert not recording.mends
        assert umbrick.Regimen.from_dict(regimen).to_dict()["steps"][0]["method"] == "declip"


def test_mends_follow_one_another(hot):
    with umbrick.open(hot) as recording:
        softer = recording.mend(method="level", at="all", gain_db=-6)
        cut = softer.mend(method="filter", at="all", shape="low_cut", frequency_hz=100)
        shorter = cut.mend(method="splice", at=[(RATE, RATE + 4800)], time="close", search_ms=0)
        assert [mend.method for mend in shorter.mends] == ["level", "splice"]
        assert recording.frames - shorter.frames > 4000
        assert np.abs(shorter.samples()).max() < 0.6 * np.abs(recording.samples()).max()
        (told,) = umbrick.report([recording.mend()])["recordings"]
        assert told["mends"]


def test_errors_are_one_class_and_one_sentence(tmp_path, hot):
    with pytest.raises(umbrick.UmbrickError, match="missing"):
        umbrick.open(tmp_path / "missing.wav")
    with umbrick.open(hot) as recording:
        for wrong in (
            {"method": "nothing", "at": "all"},
            {"method": "level"},
            {"method": "level", "at": "everywhere"},
            {"method": "level", "at": [(5, 2)]},
            {"method": "level", "at": "all", "colour": 1},
            {"method": "level", "at": "all", "channels": [7]},
            {"gain_db": 3},
        ):
            with pytest.raises(umbrick.UmbrickError):
                recording.mend(**wrong)
        with pytest.raises(umbrick.UmbrickError):
            recording.survey(kinds=["ghosts"])
        with pytest.raises(umbrick.UmbrickError, match="source itself"):
            recording.save(hot, overwrite=True)
        with pytest.raises(umbrick.UmbrickError, match="exists already"):
            recording.save(write(tmp_path / "there.wav", voice(0.1)))


def test_reports_are_returned_and_written(hot, tmp_path):
    told = umbrick.report(hot, html=tmp_path / "r.html", csv=tmp_path / "r.csv", json=tmp_path / "r.json")
    assert told["schema"] == "umbrick.report/1"
    assert told["recordings"][0]["findings"]
    assert json.loads((tmp_path / "r.json").read_text()) == told
    assert "<html" in (tmp_path / "r.html").read_text()
    with pytest.raises(umbrick.UmbrickError, match="exists already"):
        umbrick.report(hot, json=tmp_path / "r.json")
    with umbrick.open(hot) as recording:
        (entry,) = umbrick.report(recording.mend())["recordings"]
        assert entry["mends"]
        assert entry["measures_after"]


def test_tracks_are_opened_by_number(tmp_path):
    path = write_video(tmp_path / "a.mkv", [("flac", voice(1.0)), ("flac", voice(1.0, seed=2))])
    with umbrick.open(path, track=1) as second, umbrick.open(path) as first:
        assert not np.array_equal(first.samples(), second.samples())


def test_a_batch_returns_its_report(hot, tmp_path, monkeypatch):
    monkeypatch.setattr(cluster, "_ANSWER_SECONDS", 0.5)
    regimen = umbrick.Regimen.from_dict({"schema": "umbrick.regimen/1", "steps": [{"method": "dc"}]})
    told = umbrick.batch([hot], tmp_path / "out", regimen)
    assert [entry["path"] for entry in told["recordings"]] == [str(hot)]
    assert (tmp_path / "out" / "hot.wav").exists()
    assert json.loads((tmp_path / "out" / "report.json").read_text()) == told
    with pytest.raises(umbrick.UmbrickError):
        umbrick.batch([hot], tmp_path / "out", regimen, scheduler="tcp://nowhere:1")


def test_no_interface_is_loaded():
    code = "import sys, umbrick; umbrick.open; print([name for name in sys.modules if 'PySide' in name])"
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert told.strip() == "[]"
