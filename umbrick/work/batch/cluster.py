"""A batch on the workers of a running Dask cluster: they read and write the same paths on shared storage."""

from __future__ import annotations

import importlib
import time
from collections.abc import Callable, Sequence
from concurrent.futures import CancelledError, Executor, Future
from dataclasses import replace
from pathlib import Path
from typing import Any

import soundfile

from umbrick.core.errors import FileError, ParameterError
from umbrick.core.mend.side_by_side import Helpers, helped_by
from umbrick.work.batch.gathering import Item
from umbrick.work.batch.running import Outcome, Told, begin, take
from umbrick.work.batch.treating import Order, failure, treat

_VERY_LONG_SECONDS = 600.0
_TOGETHER, _FIRST = 8, 10
"""So many stretches of a very long file are given to a worker at once, before any other file."""

_ANSWER_SECONDS = 15
_LOOK_SECONDS = 0.1


def run_on_cluster(
    items: Sequence[Item],
    order: Order,
    address: str,
    told: Told = lambda item, entry: None,
    is_stopped: Callable[[], bool] = lambda: False,
) -> Outcome:
    """Have files treated by the workers of a cluster; otherwise as :func:`umbrick.work.batch.running.run_batch`.

    A worker that is lost loses nothing: what it was working on is given to another one.

    Parameters
    ----------
    items : sequence of Item
    order : Order
    address : str
        Of the scheduler, as ``tcp://10.0.0.5:8786``.
    told, is_stopped : callable

    Raises
    ------
    ParameterError
        If the extra that this needs is not installed.
    FileError
        If no scheduler answers, or nothing can be written in the output folder.
    """
    try:
        distributed: Any = importlib.import_module("distributed")
    except ImportError as error:
        raise ParameterError(
            "Batches on a cluster need Dask, which is not installed.", "Install it with: pip install 'umbrick[cluster]'"
        ) from error
    try:
        client = distributed.Client(address, timeout=_ANSWER_SECONDS, set_as_default=False)
    except (OSError, ValueError) as error:
        raise FileError(
            f"No scheduler answers at {address}.", "Nothing was done; start it, and the workers."
        ) from error
    batch = begin(items, order)
    away = replace(order, out=str(Path(order.out).absolute()))
    try:
        futures = {}
        for item in batch.waiting:
            there = Item(item.source.absolute(), item.place)
            # What was not there when the batch began was made by it, perhaps by a worker that was lost then.
            future = client.submit(treat_there, away, there, batch.hand_out(item), pure=False, retries=1)
            futures[future] = item
        left = set(futures)
        while left and not batch.outcome.is_full and not batch.outcome.stopped:
            batch.outcome.stopped = is_stopped()
            done = {future for future in left if future.done()}
            if not done:
                time.sleep(_LOOK_SECONDS)
            for future in done:
                item = futures[future]
                take(batch, item, _result(future, item) | {"path": str(item.source)}, told)
            left -= done
        client.cancel(list(left))
    finally:
        batch.close()
        client.close()
    return batch.ordered()


def treat_there(order: Order, item: Item, may_replace: bool) -> dict[str, Any]:
    """Treat one file on a worker; the mends of a very long one are shared out among all workers.

    What lies between two places of damage, further than any context reaches, parts one stretch from the next. A stretch
    goes to its worker with its context, so that the samples are the same wherever it is rebuilt.
    """
    if not _is_very_long(item.source):
        return treat(order, item, may_replace)
    distributed: Any = importlib.import_module("distributed")
    # A stretch with its context is some megabytes of sound, which Dask would warn of every time.
    importlib.import_module("dask").config.set({"distributed.admin.large-graph-warning-threshold": "1GB"})
    with distributed.worker_client() as client:
        threads = sum(client.nthreads().values())
        with helped_by(Helpers(_Workers(client), threads, _TOGETHER)):
            return treat(order, item, may_replace)


class _Workers(Executor):
    """A cluster's workers as those who are given work; Dask's own such class cannot say what comes first."""

    def __init__(self, client: Any) -> None:
        self._client = client

    def submit(self, work: Callable[..., Any], /, *arguments: Any, **more: Any) -> Future[Any]:
        """Have a worker do some work, before it begins with another file."""
        there = self._client.submit(work, *arguments, **more, pure=False, priority=_FIRST)
        here: Future[Any] = Future()

        def told(done: Any) -> None:
            if not here.set_running_or_notify_cancel():
                return
            failed = CancelledError() if done.cancelled() else done.exception()
            if failed is not None:
                here.set_exception(failed)
            else:
                here.set_result(done.result())

        there.add_done_callback(told)
        return here


def _is_very_long(path: Path) -> bool:
    try:
        about = soundfile.info(path)
    except (soundfile.LibsndfileError, OSError):
        return False  # whoever opens it says what is wrong with it
    return bool(about.frames > _VERY_LONG_SECONDS * about.samplerate)


def _result(future: Any, item: Item) -> dict[str, Any]:
    try:
        return dict(future.result())
    except Exception as error:  # whatever a cluster does with a task, the others go on
        return failure(item, f"{item.source.name} could not be done on the cluster: {type(error).__name__}.")
