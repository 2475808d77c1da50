"""A batch on the workers of a running Dask cluster: they read and write the same paths on shared storage."""

from __future__ import annotations

import importlib
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from umbrick.core.errors import FileError, ParameterError
from umbrick.work.batch.gathering import Item
from umbrick.work.batch.running import Outcome, Told, begin, take
from umbrick.work.batch.treating import Order, failure, treat

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
            future = client.submit(treat, away, there, batch.may_replace(item), pure=False, retries=1)
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


def _result(future: Any, item: Item) -> dict[str, Any]:
    try:
        return dict(future.result())
    except Exception as error:  # whatever a cluster does with a task, the others go on
        return failure(item, f"{item.source.name} could not be done on the cluster: {type(error).__name__}.")
