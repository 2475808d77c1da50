"""Running a batch: files side by side in processes of their own, each noted when it is done."""

from __future__ import annotations

import multiprocessing
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from typing import Any

from umbrick.work.batch.gathering import Item
from umbrick.work.batch.journal import Journal
from umbrick.work.batch.treating import FAILED, Order, failure, treat

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


def run_batch(
    items: Sequence[Item],
    order: Order,
    jobs: int = 1,
    told: Callable[[Item, dict[str, Any]], None] = lambda item, entry: None,
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
    """
    outcome = Outcome()
    journal = None if order.is_dry else Journal(order)
    try:
        waiting: deque[tuple[Item, int]] = deque()
        for item in items:
            if journal is not None and (entry := journal.finished(item)) is not None:
                outcome.entries[str(item.source)] = entry
                outcome.again += 1
            else:
                waiting.append((item, 1))
        if waiting:
            _work_through(waiting, order, jobs, journal, outcome, told, is_stopped)
    finally:
        if journal is not None:
            journal.close()
    ordered = {
        str(item.source): outcome.entries[str(item.source)] for item in items if str(item.source) in outcome.entries
    }
    outcome.entries = ordered
    return outcome


def _work_through(
    waiting: deque[tuple[Item, int]],
    order: Order,
    jobs: int,
    journal: Journal | None,
    outcome: Outcome,
    told: Callable[[Item, dict[str, Any]], None],
    is_stopped: Callable[[], bool],
) -> None:
    pool = _pool(jobs)
    running: dict[Future[dict[str, Any]], tuple[Item, int]] = {}
    try:
        while (waiting and not outcome.is_full and not outcome.stopped) or running:
            outcome.stopped = outcome.stopped or is_stopped()
            while waiting and len(running) < _QUEUED * jobs and not outcome.is_full and not outcome.stopped:
                item, tries = waiting.popleft()
                may_replace = journal is not None and journal.made(item)
                running[pool.submit(treat, order, item, may_replace)] = item, tries
            finished, _ = wait(running, timeout=_LOOK_SECONDS, return_when=FIRST_COMPLETED)
            broken: list[tuple[Item, int]] = []
            for future in finished:
                item, tries = running.pop(future)
                try:
                    entry = future.result()
                except BrokenProcessPool:
                    broken.append((item, tries))
                    continue
                _take(item, entry, journal, outcome, told)
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
                        entry = failure(item, f"{item.source.name} made its process end, twice.")
                        _take(item, entry, journal, outcome, told)
    finally:
        pool.shutdown(cancel_futures=True)


def _take(
    item: Item,
    entry: dict[str, Any],
    journal: Journal | None,
    outcome: Outcome,
    told: Callable[[Item, dict[str, Any]], None],
) -> None:
    outcome.entries[str(item.source)] = entry
    outcome.is_full = outcome.is_full or bool(entry.get("disk_is_full"))
    if journal is not None and entry["status"] != FAILED:
        journal.note(entry)
    told(item, entry)


def _pool(jobs: int) -> ProcessPoolExecutor:
    # A process that is forked from one with threads may hang; these begin anew.
    return ProcessPoolExecutor(jobs, mp_context=multiprocessing.get_context("spawn"))
