"""Running a batch: files side by side in processes of their own, each noted when it is done."""

from __future__ import annotations

import multiprocessing
import os
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from umbrick.core.errors import FileError
from umbrick.core.units import format_count
from umbrick.work.batch.gathering import Item
from umbrick.work.batch.journal import Journal
from umbrick.work.batch.naming import refuse_clashes
from umbrick.work.batch.treating import FAILED, Order, failure, target_of, treat

_TRIES = 2
_QUEUED = 2
"""Files handed out for each process: one in work, and one waiting."""

_LOOK_SECONDS = 0.2


@dataclass
class Outcome:
    """The entries of all files, done or not, in the order of the files; ``is_full`` if the disk was; ``stopped``."""

    entries: dict[str, dict[str, Any]] = field(default_factory=dict)
    again: int = 0
    """Files that were done before and were not done again."""
    is_full: bool = False
    stopped: bool = False

    @property
    def failures(self) -> list[dict[str, Any]]:
        """The entries of files that could not be done."""
        return [entry for entry in self.entries.values() if entry["status"] == FAILED]

    @property
    def told(self) -> str:
        """What became of all files, in a sentence for people."""
        failed = len(self.failures)
        before = f", {self.again} of them before" if self.again else ""
        ear = sum(bool(entry.get("ear")) for entry in self.entries.values())
        heard = f"; {format_count(ear, 'file')} worth a human ear" if ear else ""
        return f"{format_count(len(self.entries) - failed, 'file')} done{before}, {failed} failed{heard}."


Told = Callable[[Item, dict[str, Any]], None]
"""Called with each file's entry as it is done."""


@dataclass
class Batch:
    """A batch under way: what waits, and what is written down of what is done."""

    order: Order
    items: Sequence[Item]
    journal: Journal | None
    outcome: Outcome = field(default_factory=Outcome)
    waiting: deque[Item] = field(default_factory=deque)
    _free: set[Item] = field(default_factory=set)

    def may_replace(self, item: Item) -> bool:
        """Whether what stands in a result's place is this batch's own: made before, or not there when it began."""
        return item in self._free or (self.journal is not None and self.journal.made(item))

    def hand_out(self, item: Item) -> bool:
        """Note that a file goes to who treats it, and return whether its result may replace what stands there."""
        if self.journal is not None and item in self._free:
            with suppress(FileError, OSError):  # where there is no room for a line, the file itself is told of
                self.journal.begin(item)
        return self.may_replace(item)

    def ordered(self) -> Outcome:
        """Return the outcome with its entries in the order of the files."""
        known = self.outcome.entries
        self.outcome.entries = {str(i.source): known[str(i.source)] for i in self.items if str(i.source) in known}
        return self.outcome

    def close(self) -> None:
        """Let go of the journal."""
        if self.journal is not None:
            self.journal.close()


def begin(items: Sequence[Item], order: Order) -> Batch:
    """Return a batch in which what is done already is left out; FileError if nothing can be written there, and
    ParameterError if two results would have one name."""
    refuse_clashes((item.source, target_of(order, item)) for item in items)
    batch = Batch(order, items, None if order.is_dry else Journal(order))
    for item in items:
        if batch.journal is not None and (entry := batch.journal.finished(item)) is not None:
            batch.outcome.entries[str(item.source)] = entry
            batch.outcome.again += 1
            continue
        batch.waiting.append(item)
        if not os.path.lexists(target_of(order, item)):
            batch._free.add(item)
    return batch


def take(batch: Batch, item: Item, entry: dict[str, Any], told: Told) -> None:
    """Note what became of a file."""
    batch.outcome.entries[str(item.source)] = entry
    batch.outcome.is_full = batch.outcome.is_full or bool(entry.get("disk_is_full"))
    if batch.journal is not None and entry["status"] != FAILED:
        batch.journal.note(entry)
    told(item, entry)


def run_batch(
    items: Sequence[Item],
    order: Order,
    jobs: int = 1,
    told: Told = lambda item, entry: None,
    is_stopped: Callable[[], bool] = lambda: False,
) -> Outcome:
    """Treat files, those that are done already left out, and return what became of them.

    Parameters
    ----------
    items : sequence of Item
    order : Order
    jobs : int
        Processes that work side by side, at least 1.
    told : callable
        Called with each file's entry as it is done.
    is_stopped : callable
        Asked whether to stop: what is in work is finished, and noted.

    Raises
    ------
    FileError
        If nothing can be written in the output folder.
    ParameterError
        If two results would have one name.
    """
    batch = begin(items, order)
    try:
        if batch.waiting:
            _work_through(batch, jobs, told, is_stopped)
    finally:
        batch.close()
    return batch.ordered()


def _work_through(batch: Batch, jobs: int, told: Told, is_stopped: Callable[[], bool]) -> None:
    outcome, waiting = batch.outcome, deque((item, 1) for item in batch.waiting)
    pool = _pool(jobs)
    running: dict[Future[dict[str, Any]], tuple[Item, int]] = {}
    try:
        while (waiting and not outcome.is_full and not outcome.stopped) or running:
            outcome.stopped = outcome.stopped or is_stopped()
            while waiting and len(running) < _QUEUED * jobs and not outcome.is_full and not outcome.stopped:
                item, tries = waiting.popleft()
                running[pool.submit(treat, batch.order, item, batch.hand_out(item))] = item, tries
            finished, _ = wait(running, timeout=_LOOK_SECONDS, return_when=FIRST_COMPLETED)
            broken: list[tuple[Item, int]] = []
            for future in finished:
                item, tries = running.pop(future)
                try:
                    take(batch, item, future.result(), told)
                except BrokenProcessPool:
                    broken.append((item, tries))
            if broken:
                # A process was killed, perhaps for what it worked on: each is tried once more.
                broken += running.values()
                running.clear()
                pool.shutdown(cancel_futures=True)
                pool = _pool(jobs)
                for item, tries in broken:
                    if tries < _TRIES:
                        waiting.append((item, tries + 1))
                    else:
                        take(batch, item, failure(item, f"{item.source.name} made its process end, twice."), told)
    finally:
        pool.shutdown(cancel_futures=True)


def _pool(jobs: int) -> ProcessPoolExecutor:
    # A process that is forked from one with threads may hang; these begin anew.
    return ProcessPoolExecutor(jobs, mp_context=multiprocessing.get_context("spawn"))
