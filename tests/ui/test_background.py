"""Jobs and pictures made in the background."""

import threading
from collections.abc import Callable
from dataclasses import dataclass, field

import pytest
from PySide6.QtCore import QObject

from umbrick.core.errors import CancelledError, FileError
from umbrick.core.paths import state_folder
from umbrick.ui.bench.jobs import Jobs
from umbrick.ui.strips.renderer import Renderer


@pytest.fixture
def jobs(qtbot):
    jobs = Jobs()
    yield jobs
    jobs.cancel_all()


def run(jobs, qtbot, work):
    """Run a job to its end and return all that it told, in order."""
    told = []
    job = jobs.start(
        "work", work, lambda result: told.append(("done", result)), lambda value: told.append(("came", value))
    )
    job.failed.connect(lambda text: told.append(("failed", text)))
    job.cancelled.connect(lambda: told.append(("cancelled", None)))
    job.progressed.connect(lambda share: told.append(("progressed", share)))
    job.ended.connect(lambda: told.append(("ended", None)))
    qtbot.waitUntil(lambda: ("ended", None) in told)
    assert jobs.is_idle
    return told


def test_a_result_comes_once_and_last(jobs, qtbot):
    assert run(jobs, qtbot, lambda job: 42) == [("done", 42), ("ended", None)]


def test_what_comes_at_once_is_not_lost(jobs, qtbot):
    def work(job):
        for value in range(3):
            job.came.emit(value)

    told = run(jobs, qtbot, work)
    assert [value for kind, value in told if kind == "came"] == [0, 1, 2]


def test_an_expected_failure_is_told_in_its_own_words(jobs, qtbot):
    def work(job):
        raise FileError("The tape has gone.", "Look under the bench.")

    assert run(jobs, qtbot, work)[0] == ("failed", "The tape has gone. Look under the bench.")


def test_a_fault_of_our_own_is_told_with_its_details_and_written_in_the_log(jobs, qtbot):
    def work(job):
        raise ZeroDivisionError("oh")

    faults = []
    jobs.fault.connect(lambda told, details: faults.append(details))
    kind, text = run(jobs, qtbot, work)[0]
    assert kind == "failed"
    assert "fault in Umbrick itself" in text
    assert "ZeroDivisionError: oh" in faults[0]
    assert 'raise ZeroDivisionError("oh")' in (state_folder() / "umbrick.log").read_text()


@pytest.mark.parametrize("raises", [True, False])
def test_a_cancelled_job_delivers_nothing(jobs, qtbot, raises):
    begun = threading.Event()

    def work(job):
        begun.set()
        while not job.is_cancelled():
            pass
        if raises:
            raise CancelledError
        return "too late"

    told = []
    job = jobs.start("work", work, told.append)
    job.cancelled.connect(lambda: told.append("cancelled"))
    assert begun.wait(5)
    job.cancel()
    qtbot.waitUntil(lambda: jobs.is_idle)
    assert told == ["cancelled"]


def test_progress_is_told_in_steps_that_can_be_seen(jobs, qtbot):
    def work(job):
        for step in range(10_001):
            job.report(step / 10_000)

    told = run(jobs, qtbot, work)
    shares = [value for kind, value in told if kind == "progressed"]
    assert shares == sorted(shares)
    assert len(shares) <= 202


def test_closing_waits_for_what_is_running(jobs):
    ended = threading.Event()

    def work(job):
        while not job.is_cancelled():
            pass
        ended.set()

    jobs.start("work", work, lambda _: None)
    jobs.cancel_all()
    assert ended.is_set()


@dataclass(frozen=True)
class Asked:
    name: str
    make: Callable = field(compare=False)


def test_the_newest_picture_wins(qtbot):
    parent = QObject()
    renderer = Renderer(parent)
    ready, made = [], []
    go = threading.Event()
    renderer.ready.connect(lambda request, content: ready.append((request.name, content)))

    def picture(name):
        def make(is_overtaken):
            go.wait(5)
            made.append((name, is_overtaken()))
            return name.upper()

        return Asked(name, make)

    renderer.request(picture("first"))
    qtbot.waitUntil(lambda: renderer.busy is not None)
    for name in ("second", "third", "third"):
        renderer.request(picture(name))
    go.set()
    qtbot.waitUntil(lambda: len(ready) == 2 and renderer.is_idle)
    assert ready == [("first", "FIRST"), ("third", "THIRD")]
    assert made == [("first", True), ("third", False)], "what is overtaken can know"
    renderer.close()


@pytest.mark.parametrize(
    ("error", "told"),
    [(FileError("It is shorter."), "It is shorter."), (IndexError("beyond"), "Drawing met a fault in Umbrick itself")],
)
def test_a_picture_that_fails_is_told_and_the_next_is_made(qtbot, error, told):
    parent = QObject()
    renderer = Renderer(parent)
    failed, ready = [], []
    renderer.failed.connect(failed.append)
    renderer.fault.connect(lambda sentence, _: failed.append(sentence))
    renderer.ready.connect(lambda request, _: ready.append(request.name))

    def broken(_):
        raise error

    renderer.request(Asked("a", broken))
    qtbot.waitUntil(lambda: bool(failed))
    assert told in failed[0]
    renderer.request(Asked("b", lambda _: None))
    qtbot.waitUntil(lambda: ready == ["b"])
    renderer.close()


def test_garbage_is_collected_on_the_interface_thread_alone(qtbot):
    collected_on = []

    class Cycle:
        def __init__(self):
            self.itself = self

        def __del__(self):
            collected_on.append(threading.get_ident())

    def allocate():
        for _ in range(5_000):
            Cycle()

    thread = threading.Thread(target=allocate)
    thread.start()
    thread.join()
    assert not collected_on
    qtbot.waitUntil(lambda: len(collected_on) == 5_000)
    assert set(collected_on) == {threading.get_ident()}
