"""A batch on a small cluster of this machine, one of whose workers is killed."""

import json
import os
import signal
import subprocess
import sys
import time

import pytest
from distributed import LocalCluster

from tests.sounds import RATE, chord, write
from tests.work.batch.test_batch import REGIMEN, in_this_process, order_for, own_home, samples_in, tapes
from umbrick.core.errors import FileError, ParameterError
from umbrick.work.batch import cluster
from umbrick.work.batch.gathering import gathered
from umbrick.work.batch.treating import Order

assert own_home


@pytest.fixture
def two_workers(tmp_path):
    """A scheduler and two workers, each a process; gives the scheduler's address and the workers."""
    told = tmp_path / "scheduler.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "start_new_session": True}
    code = "import sys; from distributed.cli.{0} import main; sys.argv = ['{0}', *sys.argv[1:]]; main()"

    def started(what, *arguments):
        return subprocess.Popen([sys.executable, "-c", code.format(what), *arguments], **quiet)

    scheduler = started(
        "dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", str(told)
    )
    workers = [
        started("dask_worker", "--scheduler-file", str(told), "--nthreads", "1", "--nworkers", "1", "--no-nanny",
                "--no-dashboard", "--local-directory", str(tmp_path))
        for _ in range(2)
    ]  # fmt: skip
    try:
        yield _address(told), workers
    finally:
        for process in (*workers, scheduler):
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()


def _address(told):
    """Return the scheduler's address once it has written it down."""
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        try:
            return json.loads(told.read_text())["address"]
        except (FileNotFoundError, json.JSONDecodeError):
            time.sleep(0.05)
    raise TimeoutError("the scheduler did not start")


def test_a_worker_that_is_killed_loses_nothing(tmp_path, two_workers):
    address, workers = two_workers
    source, whole, out = tapes(tmp_path / "in", 6), tmp_path / "whole", tmp_path / "out"
    in_this_process(gathered([source], whole), order_for(whole))
    (tmp_path / "r.json").write_text(json.dumps(REGIMEN))
    command = [sys.executable, "-m", "umbrick", "batch", str(source), "--out", str(out), "--quiet"]
    command += ["--regimen", str(tmp_path / "r.json"), "--scheduler", address]
    batch = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    deadline = time.monotonic() + 90
    while not list(out.rglob("*.wav")) and batch.poll() is None and time.monotonic() < deadline:
        time.sleep(0.02)
    os.kill(workers[0].pid, signal.SIGKILL)
    _, said = batch.communicate(timeout=180)
    assert batch.returncode == 0, said
    assert samples_in(out) == samples_in(whole)
    assert len(json.loads((out / "report.json").read_text())["recordings"]) == 6


def test_all_workers_mend_a_very_long_recording_together(tmp_path, monkeypatch):
    monkeypatch.setattr(cluster, "_VERY_LONG_SECONDS", 10.0)
    monkeypatch.setattr(cluster, "_TOGETHER", 2)
    sound = chord(30.0)
    for second in range(2, 30, 3):
        sound[second * RATE : second * RATE + 480] = 0
    (tmp_path / "in").mkdir()
    source, whole, out = write(tmp_path / "in" / "long.wav", sound), tmp_path / "whole", tmp_path / "out"
    gaps = REGIMEN | {"steps": [{"method": "bridge", "where": "findings:dropout"}]}
    in_this_process(gathered([source], whole), Order(str(whole), gaps))
    workers = LocalCluster(n_workers=2, threads_per_worker=1, processes=False, dashboard_address=None)
    try:
        outcome = cluster.run_on_cluster(gathered([source], out), Order(str(out), gaps), workers.scheduler_address)
        pieces = workers.scheduler.task_prefixes["all_made"].state_counts
    finally:
        workers.close()
    assert not outcome.failures
    assert samples_in(out) == samples_in(whole)
    assert sum(pieces.values()) >= 5


def test_no_scheduler_and_no_dask_are_told(tmp_path, monkeypatch):
    items, order = gathered([tapes(tmp_path / "in", 1)], tmp_path / "out"), order_for(tmp_path / "out")
    monkeypatch.setattr(cluster, "_ANSWER_SECONDS", 0.5)
    with pytest.raises(FileError, match="No scheduler answers"):
        cluster.run_on_cluster(items, order, "tcp://127.0.0.1:9")

    def missing(name):
        raise ImportError(name)

    monkeypatch.setattr(cluster.importlib, "import_module", missing)
    with pytest.raises(ParameterError, match=r"umbrick\[cluster\]"):
        cluster.run_on_cluster(items, order, "tcp://127.0.0.1:9")
