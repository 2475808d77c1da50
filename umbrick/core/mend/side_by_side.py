"""Working out many things side by side: by threads, by processes where the program allows that, or elsewhere.

Much of what rebuilding does is small steps, of which an interpreter takes one at a time however many threads it has.
Processes have an interpreter each; a window, and a program that merely uses Umbrick, are not for that. A cluster's
workers, which have been given one file each, can lend a hand with one that is very long.
"""

from __future__ import annotations

import multiprocessing
import pickle
import signal
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from umbrick.core.errors import CancelledError
from umbrick.core.processors import may_start_processes
from umbrick.core.quick_transforms import use_quick_transforms

_MANY, _LONG_SECONDS = 8, 1.5
"""Fewer things are not shared out; processes take a second to start, and are not worth it for what is done as soon."""

_ASK_SECONDS = 0.2
_WAITING = 2
"""So many pieces a process are handed over ahead; they are not all read at once."""

_Asked = TypeVar("_Asked")
_Made = TypeVar("_Made")

_allowed = False
_pool: Future[ProcessPoolExecutor] | None = None


@dataclass(frozen=True)
class Helpers:
    """Others who work out a share, how many they are, and how many things each is told at once."""

    pool: Executor
    count: int
    together: int = 1


_helpers: ContextVar[Helpers | None] = ContextVar("helpers", default=None)


@contextmanager
def helped_by(helpers: Helpers) -> Iterator[None]:
    """Let what is worked out in this thread meanwhile be shared out among others, who have Umbrick as well."""
    token = _helpers.set(helpers)
    try:
        yield
    finally:
        _helpers.reset(token)


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
    """Whether what takes long is shared out among processes now, of this machine or of others."""
    return _allowed or _helpers.get() is not None


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
    helpers = _helpers.get()
    if helpers is not None and count > _MANY and _is_sendable(work):
        return asked.by_helpers([], helpers)
    if workers > 1 and count > 1 and not _allowed:
        return asked.by_threads(workers)
    if not (workers > 1 and count > _MANY and _is_sendable(work)):
        return asked.here([], count)
    made: list[_Made] = []
    began = time.monotonic()
    while len(made) < count and not (_pool is not None and _pool.done()):
        # Until processes have started, things are done here.
        asked.here(made, len(made) + 1)
        if (time.monotonic() - began) * (count - len(made)) / len(made) > _LONG_SECONDS:
            _begun(workers)
    return asked.by_processes(made, workers) if len(made) < count else made


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
        try:
            return self._by_helpers(made, Helpers(_begun(workers).result(), workers))
        except (BrokenProcessPool, OSError):
            # The system starts none, or has ended one, for want of memory perhaps: the rest is done here.
            _end()
            return self.here(made, self.count)

    def by_helpers(self, made: list[_Made], helpers: Helpers) -> list[_Made]:
        """Go on with what is made by others, to the end; what they cannot do is done here."""
        try:
            return self._by_helpers(made, helpers)
        except CancelledError:
            raise
        except Exception:  # of whatever kind, as it is theirs: what goes wrong here as well says so
            return self.here(made, self.count)

    def _by_helpers(self, made: list[_Made], helpers: Helpers) -> list[_Made]:
        flying: deque[Future[list[_Made]]] = deque()
        asked = len(made)
        try:
            while len(made) < self.count:
                while asked < self.count and len(flying) < _WAITING * helpers.count:
                    stop = min(asked + helpers.together, self.count)
                    some = [self.ask(number) for number in range(asked, stop)]
                    flying.append(helpers.pool.submit(_all_made, self.work, some))
                    asked = stop
                wait([flying[0]], timeout=_ASK_SECONDS)
                if flying[0].done():
                    made += flying.popleft().result()
                self._told(len(made))
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
        with suppress(OSError):
            _pool.result().shutdown(cancel_futures=True)
        _pool = None


def _begun(workers: int) -> Future[ProcessPoolExecutor]:
    """Return the processes, which begin to start now if they have not yet; whoever asks need not wait for that."""
    global _pool
    if _pool is None:
        starter = ThreadPoolExecutor(1, "start")
        _pool = starter.submit(_started, workers)
        starter.shutdown(wait=False)
    return _pool


def _started(workers: int) -> ProcessPoolExecutor:
    # Not by fork: threads of this process may hold locks that nobody would open in a copy of it.
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["umbrick.core.mend.registry", "scipy.signal"])
    pool = ProcessPoolExecutor(workers, context, initializer=_made_ready)
    for _ in range(workers):
        pool.submit(_never)
    return pool


def _made_ready() -> None:
    """Transform as the process that asks does, and leave it to that one to end when a person presses Ctrl+C."""
    use_quick_transforms()
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def _never() -> bool:
    return False


def _all_made(work: Callable[[_Asked, Callable[[], bool]], _Made], asked: Sequence[_Asked]) -> list[_Made]:
    """Work out what a helper is told at once; it transforms as the one who asks does."""
    use_quick_transforms()
    return [work(one, _never) for one in asked]


def _is_sendable(work: Callable[..., Any]) -> bool:
    """Whether a process can be told what to do."""
    try:
        pickle.dumps(work)
    except (pickle.PicklingError, AttributeError, TypeError):
        return False
    return True
