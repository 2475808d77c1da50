"""Things worked out side by side: the same whoever does them, and ended when a person says so."""

import os
import signal
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import partial

import numpy as np
import pytest

from tests.sounds import RATE, chord
from umbrick.core.errors import CancelledError
from umbrick.core.mend import side_by_side
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.mend.side_by_side import Helpers, helped_by, processes, uses_processes, worked_out
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

ASKED = 60


def _work(parent, asked, is_cancelled):
    """Say in which process what was asked was done; one thing makes a process end as if it was killed."""
    if asked == 25 and os.getpid() != parent:
        os.kill(os.getpid(), signal.SIGKILL)
    return asked, os.getpid() != parent


def _process(asked, is_cancelled):
    return os.getpid()


def _done(workers=2, progress=lambda _: None, is_cancelled=lambda: False, parent=None):
    parent = os.getpid() if parent is None else parent
    return worked_out(lambda number: number, partial(_work, parent), ASKED, workers, progress, is_cancelled)


def _until_processes_come(number):
    """Take until processes have started for the second thing."""
    if number == 1:
        side_by_side._pool.result(60)
    return number


@pytest.fixture
def a_program(monkeypatch):
    """Let processes be used."""
    monkeypatch.setattr("umbrick.core.processors._is_program", True)


@contextmanager
def ready_processes():
    """Have processes ready, so that they are used from the first thing on."""
    with processes():
        side_by_side._begun(2).result()
        yield


def test_a_program_that_merely_uses_umbrick_starts_no_processes():
    with processes():
        assert not uses_processes()
        assert not any(elsewhere for _, elsewhere in _done())


def test_all_is_done_in_order_by_threads():
    told = []
    assert [number for number, _ in _done(progress=told.append)] == list(range(ASKED))
    assert told == sorted(told)
    assert told[-1] == 1


@pytest.mark.usefixtures("a_program")
def test_what_a_killed_process_was_doing_is_done_here():
    with ready_processes():
        assert uses_processes()
        done = _done()
    assert not uses_processes()
    assert [number for number, _ in done] == list(range(ASKED))
    assert done[0][1]
    assert not done[25][1]


def _done_by_helpers(pool, **how):
    with helped_by(Helpers(pool, 2, together=7)):
        return _done(**how)


def test_helpers_do_it_all_in_order_and_only_while_they_are_asked():
    with ThreadPoolExecutor(2) as pool:
        assert [number for number, _ in _done_by_helpers(pool)] == list(range(ASKED))
        with pytest.raises(CancelledError):
            _done_by_helpers(pool, is_cancelled=lambda: True)
    assert not uses_processes()


def test_what_helpers_cannot_do_is_done_here():
    class Lost(ThreadPoolExecutor):
        def submit(self, *_):
            return super().submit(lambda: 1 / 0)

    with Lost(1) as pool:
        assert [number for number, _ in _done_by_helpers(pool)] == list(range(ASKED))


@pytest.mark.usefixtures("a_program")
def test_processes_are_not_started_for_what_is_soon_done_and_join_in_when_it_is_not(monkeypatch):
    with processes():
        assert not any(elsewhere for _, elsewhere in _done())
        assert side_by_side._pool is None
        monkeypatch.setattr(side_by_side, "_LONG_SECONDS", -1.0)
        where = worked_out(_until_processes_come, _process, ASKED, 2, lambda _: None, lambda: False)
    assert [process == os.getpid() for process in where] == [number < 2 for number in range(ASKED)]


@pytest.mark.usefixtures("a_program")
def test_where_no_process_can_be_started_all_is_done_here(monkeypatch):
    def refused(*_, **__):
        raise OSError(12, "Cannot allocate memory")

    monkeypatch.setattr(side_by_side, "ProcessPoolExecutor", refused)
    with processes():
        side_by_side._begun(2)
        assert [number for number, _ in _done()] == list(range(ASKED))


@pytest.mark.usefixtures("a_program")
@pytest.mark.parametrize("by_processes", [True, False])
def test_it_ends_when_a_person_says_so(by_processes):
    cancelling = partial(_done, is_cancelled=lambda: True)
    if by_processes:
        with ready_processes(), pytest.raises(CancelledError):
            cancelling()
    else:
        with pytest.raises(CancelledError):
            cancelling()


@pytest.mark.usefixtures("a_program")
def test_processes_mend_to_the_same_bits_as_one_thread():
    sound = chord(12.0)
    places = [Place(at, at + 200, (0,)) for at in range(RATE, 11 * RATE, RATE)]
    for place in places:
        sound[place.start : place.stop] = 0
    version, method = Version.of(ArraySource(sound, RATE, "s")), method_named("bridge")
    one = apply_method(version, method, {}, places, workers=1)
    with ready_processes():
        shared = apply_method(version, method, {}, places, workers=2)
    assert shared.mends == one.mends
    assert np.array_equal(shared.version.read(0, version.frames), one.version.read(0, version.frames))
