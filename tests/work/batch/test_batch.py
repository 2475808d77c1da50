"""A regimen on many files: the same samples however it is run, nothing done twice, every failure explained."""

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tests.published import faults_of
from tests.sounds import RATE, clipped, faultless, write
from umbrick.casebook.casebook import Casebook
from umbrick.core.errors import ParameterError
from umbrick.core.sound.recording import open_recording
from umbrick.work.batch.gathering import gathered
from umbrick.work.batch.journal import NAME
from umbrick.work.batch.naming import checked
from umbrick.work.batch.reports import as_csv, as_page, report_document
from umbrick.work.batch.running import begin, run_batch
from umbrick.work.batch.treating import DONE, Order, treat
from umbrick.work.batch.watching import arriving

REGIMEN = {
    "schema": "umbrick.regimen/1",
    "name": "Tape",
    "steps": [
        {"method": "declip", "where": "findings:clipping"},
        {"method": "filter", "where": "all", "set": {"shape": "low_cut", "frequency_hz": 60}},
    ],
}


def tapes(folder, count=3):
    (folder / "side b").mkdir(parents=True, exist_ok=True)
    for number in range(count):
        sound, _, _ = clipped(faultless(1.0, seed=number), 0.004)
        write(folder / ("side b" if number % 2 else "") / f"tape {number}.wav", sound)
    return folder


def order_for(out, **more):
    return Order(str(out), REGIMEN, **more)


def samples_in(folder):
    """Return the samples of all results; what a killed process was writing is hidden, and swept away later."""
    paths = [path for path in sorted(folder.rglob("*.wav")) if not path.name.startswith(".")]
    return {str(path.relative_to(folder)): soundfile.read(path)[0].tobytes() for path in paths}


@pytest.fixture(autouse=True)
def own_home(monkeypatch, tmp_path):
    monkeypatch.setenv("UMBRICK_HOME", str(tmp_path / "home"))


def in_this_process(items, order):
    """Treat files one after another without other processes."""
    return {str(item.source): treat(order, item, may_replace=False) for item in items}


def test_results_keep_folders_and_names_and_do_not_depend_on_the_jobs(tmp_path):
    source = tapes(tmp_path / "in")
    one, two = tmp_path / "one", tmp_path / "two"
    entries = in_this_process(gathered([source], one), order_for(one))
    assert {entry["status"] for entry in entries.values()} == {"done"}
    outcome = run_batch(gathered([source], two), order_for(two), jobs=2)
    assert not outcome.failures
    assert list(samples_in(one)) == ["side b/tape 1.wav", "tape 0.wav", "tape 2.wav"]
    assert samples_in(one) == samples_in(two)
    again = run_batch(gathered([source], two), order_for(two), jobs=2)
    assert again.again == 3
    assert list(again.entries) == list(outcome.entries)


def test_what_has_changed_since_is_done_again_and_nothing_else(tmp_path):
    source, out = tapes(tmp_path / "in"), tmp_path / "out"
    items = gathered([source], out)
    run_batch(items, order_for(out))
    write(source / "tape 0.wav", clipped(faultless(1.0, seed=9), 0.004)[0])
    (out / "tape 2.wav").unlink()
    outcome = run_batch(items, order_for(out))
    assert outcome.again == 1
    assert (out / "tape 2.wav").exists()
    other = order_for(out, ceiling_dbfs=-3.0)
    assert run_batch(items, other).again == 0


def test_what_stood_there_before_is_not_replaced(tmp_path):
    source, out = tapes(tmp_path / "in", 1), tmp_path / "out"
    out.mkdir()
    mine = write(out / "tape 0.wav", faultless(0.1))
    before = mine.read_bytes()
    outcome = run_batch(gathered([source], out), order_for(out))
    assert "exists already" in outcome.failures[0]["reason"]
    assert mine.read_bytes() == before
    assert not run_batch(gathered([source], out), order_for(out, overwrite=True)).failures
    assert mine.read_bytes() != before


def test_bad_files_are_explained_and_the_good_ones_done(tmp_path):
    source, out = tapes(tmp_path / "in", 1), tmp_path / "out"
    (source / "empty.wav").write_bytes(b"")
    (source / "foreign.wav").write_bytes(b"not sound at all" * 99)
    whole = (source / "tape 0.wav").read_bytes()
    (source / "cut off.wav").write_bytes(whole[: len(whole) // 2])
    (source / "letter.txt").write_text("not meant")
    os.symlink(source / "nowhere", source / "gone.wav")
    odd = os.fsencode(source) + b"/odd \xff\nname.wav"
    with open(odd, "wb") as file:
        file.write(whole)
    items = gathered([source], out)
    entries = in_this_process(items, order_for(out))
    failed = {os.path.basename(path): e["reason"] for path, e in entries.items() if e["status"] == "failed"}
    assert set(failed) == {"empty.wav", "foreign.wav", "cut off.wav", "gone.wav"}
    assert all(reason and "\n" not in reason for reason in failed.values())
    assert os.path.exists(os.fsencode(out) + b"/odd \xff\nname.wav")
    document = report_document(list(entries.values()), REGIMEN)
    assert json.loads(json.dumps(document)) == document
    assert len(document["recordings"]) == 2
    assert len(document["failures"]) == 4
    assert faults_of(document, "umbrick.report/1") == []
    assert "cut off.wav" in as_page(document, out)
    assert as_csv(document).count("failed") == 4
    assert sorted(path.name for path in out.iterdir() if path.suffix == ".part") == []


def test_the_report_has_what_an_archive_asks_for_and_an_ear_first(tmp_path):
    source, out = tapes(tmp_path / "in", 1), tmp_path / "out"
    write(source / "clean.wav", faultless(1.0))
    document = report_document(list(in_this_process(gathered([source], out), order_for(out)).values()), REGIMEN)
    assert document["schema"] == "umbrick.report/1"
    assert document["regimen"] == REGIMEN
    assert document["program_version"]
    for entry in document["recordings"]:
        assert len(entry["sha256"]) == len(entry["output_sha256"]) == 64
        assert entry["coding_history"].startswith("A=PCM,F=48000,W=24,M=mono,T=Umbrick")
        assert entry["measures_before"]["prognosis"]
        assert entry["measures_after"]["prognosis"]
        assert "stamp" not in entry
    assert faults_of(document, "umbrick.report/1") == faults_of(document["regimen"], "umbrick.regimen/1") == []
    reasons = [bool(entry["ear"]) for entry in document["recordings"]]
    assert reasons == sorted(reasons, reverse=True)


def test_a_dry_run_only_surveys(tmp_path):
    source, out = tapes(tmp_path / "in", 2), tmp_path / "out"
    outcome = run_batch(gathered([source], out), order_for(out, is_dry=True))
    assert {entry["status"] for entry in outcome.entries.values()} == {"surveyed"}
    assert not out.exists()
    assert all(entry["findings"] for entry in outcome.entries.values())
    assert faults_of(report_document(list(outcome.entries.values()), REGIMEN), "umbrick.report/1") == []


def test_casebooks_hold_what_was_done_to_be_lifted_off(tmp_path):
    source, out = tapes(tmp_path / "in", 1), tmp_path / "out"
    (entry,) = in_this_process(gathered([source], out), order_for(out, with_casebooks=True)).values()
    casebook = Casebook.open(out / "tape 0.casebook")
    (shelf,) = casebook.shelves()
    recording = open_recording(source / "tape 0.wav", tmp_path / "cache")
    history = shelf.history(recording.source).history
    assert len(history.mends) == sum(not mend.get("is_course") for mend in entry["mends"])
    assert [step.method for step in history.course] == ["filter"]
    assert shelf.survey(recording.source.frames).table.findings
    recording.close()
    casebook.close()


def test_a_casebook_that_somebody_worked_in_stays_when_its_file_is_done_again(tmp_path):
    source, out = tapes(tmp_path / "in", 1), tmp_path / "out"
    order = order_for(out, with_casebooks=True, overwrite=True)
    (first,) = in_this_process(gathered([source], out), order).values()
    worked_in = Path(first["casebook"]).read_bytes()
    (second,) = in_this_process(gathered([source], out), order).values()
    assert second["status"] == DONE
    assert second["casebook"] != first["casebook"]
    assert Path(first["casebook"]).read_bytes() == worked_in
    Casebook.open(Path(second["casebook"])).close()


def test_two_files_are_not_written_to_one_place(tmp_path):
    one, two = tapes(tmp_path / "a", 1), tapes(tmp_path / "b", 1)
    with pytest.raises(ParameterError, match="would both become"):
        gathered([one, two], tmp_path / "out")
    assert len(gathered([one / "tape 0.wav"] * 2, tmp_path / "out")) == 1
    inside = tmp_path / "a" / "out"
    tapes(inside, 1)
    assert [item.place.name for item in gathered([one], inside)] == ["tape 0.wav"]
    assert [item.place.name for item in gathered([one], tmp_path / "x", ["*.flac"])] == []


def test_a_disk_that_fills_up_stops_the_batch_and_leaves_no_parts(tmp_path):
    source = tapes(tmp_path / "in", 3)
    small = tmp_path / "small"
    small.mkdir()
    if (
        os.geteuid()
        or subprocess.run(["mount", "-t", "tmpfs", "-o", "size=200k", "tmpfs", small], capture_output=True).returncode
    ):
        pytest.skip("a small file system cannot be mounted here")
    try:
        outcome = run_batch(gathered([source], small), order_for(small))
        assert outcome.is_full
        assert "no room left" in outcome.failures[0]["reason"]
        assert {path.suffix for path in small.rglob("*") if path.is_file()} <= {".wav", ".jsonl"}
        for path in small.rglob("*.wav"):
            assert soundfile.info(path).frames == RATE
    finally:
        subprocess.run(["umount", small], check=True)


def test_a_batch_that_is_killed_goes_on_to_the_same_samples(tmp_path):
    source, whole, out = tapes(tmp_path / "in", 4), tmp_path / "whole", tmp_path / "out"
    in_this_process(gathered([source], whole), order_for(whole))
    (tmp_path / "r.json").write_text(json.dumps(REGIMEN))
    random.seed(2)
    command = [sys.executable, "-m", "umbrick", "batch", str(source), "--out", str(out), "--quiet"]
    command += ["--regimen", str(tmp_path / "r.json"), "--jobs", "2"]
    for _ in range(2):
        worker = subprocess.Popen(command, start_new_session=True)
        until = time.monotonic() + random.uniform(2.5, 5.0)
        while worker.poll() is None and time.monotonic() < until:
            time.sleep(0.02)
        if worker.poll() is None:
            os.killpg(worker.pid, signal.SIGKILL)
        worker.wait()
    with (out / NAME).open("a") as file:
        file.write('{"path": "cut of')
    outcome = run_batch(gathered([source], out), order_for(out), jobs=2)
    assert not outcome.failures
    assert samples_in(out) == samples_in(whole)


def test_what_was_written_but_not_noted_when_the_batch_was_killed_is_done_again(tmp_path):
    source, out = tapes(tmp_path / "in", 1), tmp_path / "out"
    order = order_for(out)
    batch = begin(gathered([source], out), order)
    (item,) = batch.waiting
    assert batch.hand_out(item)
    assert treat(order, item, may_replace=False)["status"] == DONE
    batch.close()  # nobody noted it: the process that waits for results was killed
    assert not run_batch(gathered([source], out), order).failures
    (out / NAME).unlink()
    assert "exists already" in run_batch(gathered([source], out), order).failures[0]["reason"]


def test_new_files_are_taken_when_they_have_stopped_growing(tmp_path):
    folder = tmp_path / "in"
    folder.mkdir()
    clock = [0.0]
    grown = folder / "new.wav"

    def pause(seconds):
        clock[0] += seconds
        if clock[0] <= 6:
            with grown.open("ab") as file:
                file.write(b"more")

    def is_stopped():
        return clock[0] > 20

    coming = arriving([folder], tmp_path / "out", [], is_stopped, pause, lambda: clock[0])
    taken = [(clock[0], [item.place.name for item in items]) for items in coming]
    assert [names for _, names in taken] == [["new.wav"]]
    assert taken[0][0] >= 9


def test_a_source_that_vanishes_is_explained(tmp_path):
    source, out = tapes(tmp_path / "in", 2), tmp_path / "out"
    items = gathered([source], out)
    shutil.rmtree(source / "side b")
    entries = in_this_process(items, order_for(out))
    assert [entry["status"] for entry in entries.values()].count("failed") == 1
    assert np.isfinite(soundfile.read(out / "tape 0.wav")[0]).all()


def test_results_get_the_names_format_and_rate_that_are_asked_for(tmp_path):
    source, out = tapes(tmp_path / "in", 2), tmp_path / "out"
    order = order_for(out, suffix=".flac", rate=RATE // 2, name="{name} ({folder}, {regimen})")
    in_this_process(gathered([source], out), order)
    made = sorted(str(path.relative_to(out)) for path in out.rglob("*.flac"))
    assert made == ["side b/tape 1 (side b, Tape).flac", "tape 0 (in, Tape).flac"]
    assert soundfile.info(out / made[1]).samplerate == RATE // 2
    assert soundfile.info(out / made[1]).duration == pytest.approx(1.0, abs=0.01)


@pytest.mark.parametrize("pattern", ["mended", "{nam}", "{name", "a/{name}", "{name.x}", "{}"])
def test_a_pattern_that_gives_no_names_is_refused(pattern):
    with pytest.raises(ParameterError):
        checked(pattern)


def test_sources_that_would_become_one_file_are_refused_before_anything_is_done(tmp_path):
    source, out = tapes(tmp_path / "in", 1), tmp_path / "out"
    shutil.copy(source / "tape 0.wav", source / "tape 0.w64")
    with pytest.raises(ParameterError, match=r"tape 0\.w64 and tape 0\.wav would both become tape 0\.flac"):
        run_batch(gathered([source], out), order_for(out, suffix=".flac"))
    assert not out.exists()
