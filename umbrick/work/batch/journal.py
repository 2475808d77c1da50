"""What a batch has done so far, on the disk after every file: after a crash it goes on where it was."""

from __future__ import annotations

import hashlib
import json
import os
from pathlib import Path
from typing import Any

from umbrick.core.errors import FileError
from umbrick.core.sound.sound_file import stamp_of
from umbrick.core.sound.whole_file import explained
from umbrick.work.batch.gathering import Item
from umbrick.work.batch.treating import DONE, Order, target_of

NAME = ".umbrick-batch.jsonl"
_BEGUN = "begun"


class Journal:
    """One line of JSON for every file that was begun, and one for every file that was done.

    Raises
    ------
    FileError
        If it cannot be written in the output folder.
    """

    def __init__(self, order: Order) -> None:
        self._order = order
        self._path = Path(order.out) / NAME
        told = json.dumps([order.regimen, order.subtype, order.ceiling_dbfs, order.suffix, order.rate])
        self._key = hashlib.sha256(told.encode()).hexdigest()
        self._known: dict[str, dict[str, Any]] = {}
        try:
            Path(order.out).mkdir(parents=True, exist_ok=True)
            self._read()
            self._file = self._path.open("a", encoding="ascii")
        except OSError as error:
            raise FileError(*explained(error, self._path)) from error

    def finished(self, item: Item) -> dict[str, Any] | None:
        """Return the entry of a file that is done already: same source, same order, and its result as it was left."""
        entry = self._known.get(str(item.source))
        if entry is None or entry.get("status") != DONE or entry.get("key") != self._key:
            return None
        if self._order.with_casebooks and not Path(entry.get("casebook") or "").is_file():
            return None
        same_source = list(stamp_of(item.source) or ()) == entry.get("stamp")
        same_result = list(stamp_of(target_of(self._order, item)) or ()) == entry.get("output_stamp")
        return entry if same_source and same_result else None

    def made(self, item: Item) -> bool:
        """Whether what stands in a result's place was made by a batch in this folder, so that it may be replaced."""
        entry = self._known.get(str(item.source))
        target = target_of(self._order, item)
        result = stamp_of(target)
        if entry is None or result is None:
            return False
        if entry.get("status") == _BEGUN:
            # Whoever wrote it was ended before that could be noted: nothing was there when it was begun.
            return entry.get("output") == str(target) and result.modified_ns >= int(entry.get("at_ns", 0))
        return entry.get("output_stamp") == list(result)

    def begin(self, item: Item) -> None:
        """Have on the disk that a file is begun whose result is not there yet."""
        os.utime(self._file.fileno())  # by the clock of the disk that the result will be on
        at_ns = os.fstat(self._file.fileno()).st_mtime_ns
        target = target_of(self._order, item)
        self._write({"path": str(item.source), "status": _BEGUN, "output": str(target), "at_ns": at_ns})

    def note(self, entry: dict[str, Any]) -> None:
        """Have the entry of a file that was done on the disk."""
        self._write(entry | {"key": self._key})

    def _write(self, entry: dict[str, Any]) -> None:
        self._known[entry["path"]] = entry
        try:
            self._file.write(json.dumps(entry) + "\n")
            self._file.flush()
            os.fsync(self._file.fileno())
        except OSError as error:
            raise FileError(*explained(error, self._path)) from error

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()

    def _read(self) -> None:
        if not self._path.exists():
            return
        for line in self._path.read_text("ascii", "replace").splitlines():
            try:
                entry = json.loads(line)
                self._known[str(entry["path"])] = entry
            except (ValueError, KeyError, TypeError):
                continue  # a line that was cut off by a crash: that file is done again
