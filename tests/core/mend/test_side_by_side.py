"""Things worked out side by side: the same whoever does them, and ended when a person says so."""

import os
import signal
from concurrent.futures import ThreadPoolExecutor
from functools import partial

import numpy as np
import pytest

from tests.sounds import RATE, chord
from umbrick.core.errors import CancelledError
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


def _done(workers=2, progress=lambda _: None, is_cancelled=lambda: False, parent=None):
    parent = os.getpid() if parent is None else parent
    return worked_out(lambda number: number, partial(_work, parent), ASKED, workers, progress, is_cancelled)


@pytest.fixture
def at_once(monkeypatch):
    """Let processes be used, and from the first thing on."""
    monkeypatch.setattr("umbrick.core.processors._is_program", True)
    monkeypatch.setattr("umbrick.core.mend.side_by_side._SOON_SECONDS", 0)


def test_a_program_that_merely_uses_umbrick_starts_no_processes():
    with processes():
        assert not uses_processes()
        assert not any(elsewhere for _, elsewhere in _done())


def test_all_is_done_in_order_by_threads():
    told = []
    assert [number for number, _ in _done(progress=told.append)] == list(range(ASKED))
    assert told == sorted(told)
    assert told[-1] == 1


@pytest.mark.usefixtures("at_once")
def test_what_a_killed_process_was_doing_is_done_here():
    with processes():
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


@pytest.mark.usefixtures("at_once")
@pytest.mark.parametrize("by_processes", [True, False])
def test_it_ends_when_a_person_says_so(by_processes):
    cancelling = partial(_done, is_cancelled=lambda: True)
    if by_processes:
        with processes(), pytest.raises(CancelledError):
            cancelling()
    else:
        with pytest.raises(CancelledError):
            cancelling()


@pytest.mark.usefixtures("at_once")
def test_processes_mend_to_the_same_bits_as_one_thread():
    sound = chord(12.0)
    places = [Place(at, at + 200, (0,)) for at in range(RATE, 11 * RATE, RATE)]
    for place in places:
        sound[place.start : place.stop] = 0
    version, method = Version.of(ArraySource(sound, RATE, "s")), method_named("bridge")
    one = apply_method(version, method, {}, places, workers=1)
    with processes():
        shared = apply_method(version, method, {}, places, workers=2)
    assert shared.mends == one.mends
    assert np.array_equal(shared.version.read(0, version.frames), one.version.read(0, version.frames))
