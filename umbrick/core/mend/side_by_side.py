"""Working out many things side by side: by threads, or by processes where the program allows that.

Much of what rebuilding does is small steps, of which an interpreter takes one at a time however many threads it has.
Processes have an interpreter each; a window, and a program that merely uses Umbrick, are not for that.
"""

from __future__ import annotations

import multiprocessing
import pickle
import signal
import time
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, ThreadPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from umbrick.core.errors import CancelledError
from umbrick.core.processors import may_start_processes
from umbrick.core.quick_transforms import use_quick_transforms

_SOON_SECONDS, _MANY = 0.7, 8
"""Until processes have started, things are done here: fewer are not worth starting any for."""

_ASK_SECONDS = 0.2
_WAITING = 2
"""So many pieces a process are handed over ahead; they are not all read at once."""

_Asked = TypeVar("_Asked")
_Made = TypeVar("_Made")

_allowed = False
_pool: ProcessPoolExecutor | None = None


@contextmanager
def processes() -> Iterator[None]:
    """Let what is worked out meanwhile use processes, if this program may; they end with it."""
    global _allowed
    _allowed = may_start_processes()
    try:
        yield
    finally:
        _allowed = False
        _end()


def uses_processes() -> bool:
    """Whether what takes long is shared out among processes now."""
    return _allowed


def worked_out(
    ask: Callable[[int], _Asked],
    work: Callable[[_Asked, Callable[[], bool]], _Made],
    count: int,
    workers: int,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> list[_Made]:
    """Return what work makes of everything that is asked, in order; it does not depend on how that is shared out.

    Parameters
    ----------
    ask : callable
        Gives what is to be done, by number. Called in this process.
    work : callable
        Does it, given that and what asks whether to stop. A function of a module, or ``partial`` of one, to be done by
        processes.
    count, workers : int
        How many things there are, and how many at once.
    progress, is_cancelled : callable
        Told the share done, from 0 to 1; asked whether to stop.

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so.
    """
    asked = _Many(ask, work, count, progress, is_cancelled)
    if workers > 1 and count > 1 and not _allowed:
        return asked.by_threads(workers)
    if not (workers > 1 and count > _MANY and _is_sendable(work)):
        return asked.here([], count)
    ready_at = time.monotonic() + (0 if _pool is not None else _SOON_SECONDS)
    _started(workers)
    made: list[_Made] = []
    while len(made) < count and time.monotonic() < ready_at:
        asked.here(made, len(made) + 1)
    return asked.by_processes(made, workers)


@dataclass(frozen=True)
class _Many(Generic[_Asked, _Made]):
    """Many things to be worked out, as :func:`worked_out` is told of them."""

    ask: Callable[[int], _Asked]
    work: Callable[[_Asked, Callable[[], bool]], _Made]
    count: int
    progress: Callable[[float], None]
    is_cancelled: Callable[[], bool]

    def here(self, made: list[_Made], stop: int) -> list[_Made]:
        """Go on with what is made up to some number, one by one."""
        while len(made) < stop:
            made.append(self._one(len(made)))
            self._told(len(made))
        return made

    def by_threads(self, workers: int) -> list[_Made]:
        """Have all of it made by threads."""
        with ThreadPoolExecutor(workers, thread_name_prefix="mend") as pool:
            futures = [pool.submit(self._one, number) for number in range(self.count)]
            waiting = set(futures)
            try:
                while waiting:
                    done, waiting = wait(waiting, timeout=_ASK_SECONDS, return_when=FIRST_COMPLETED)
                    for future in done:
                        future.result()
                    self._told(self.count - len(waiting))
            finally:
                for future in waiting:
                    future.cancel()
        return [future.result() for future in futures]

    def by_processes(self, made: list[_Made], workers: int) -> list[_Made]:
        """Go on with what is made by processes, to the end."""
        flying: deque[Future[_Made]] = deque()
        try:
            pool = _started(workers)
            while len(made) < self.count:
                while len(made) + len(flying) < self.count and len(flying) < _WAITING * workers:
                    flying.append(pool.submit(self.work, self.ask(len(made) + len(flying)), _never))
                wait([flying[0]], timeout=_ASK_SECONDS)
                if flying[0].done():
                    made.append(flying.popleft().result())
                self._told(len(made))
        except BrokenProcessPool:
            # The system has ended a process, for want of memory perhaps: the rest is done here.
            _end()
            self.here(made, self.count)
        finally:
            for future in flying:
                future.cancel()
        return made

    def _one(self, number: int) -> _Made:
        return self.work(self.ask(number), self.is_cancelled)

    def _told(self, done: int) -> None:
        if self.is_cancelled():
            raise CancelledError
        self.progress(done / self.count)


def _end() -> None:
    global _pool
    if _pool is not None:
        _pool.shutdown(cancel_futures=True)
        _pool = None


def _started(workers: int) -> ProcessPoolExecutor:
    global _pool
    if _pool is None:
        # Not by fork: threads of this process may hold locks that nobody would open in a copy of it.
        context = multiprocessing.get_context("forkserver")
        context.set_forkserver_preload(["umbrick.core.mend.registry"])
        _pool = ProcessPoolExecutor(workers, context, initializer=_made_ready)
        for _ in range(workers):
            _pool.submit(_never)
    return _pool


def _made_ready() -> None:
    """Transform as the process that asks does, and leave it to that one to end when a person presses Ctrl+C."""
    use_quick_transforms()
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def _never() -> bool:
    return False


def _is_sendable(work: Callable[..., Any]) -> bool:
    """Whether a process can be told what to do."""
    try:
        pickle.dumps(work)
    except (pickle.PicklingError, AttributeError, TypeError):
        return False
    return True
