"""Holding on to a file's content, also when another program puts a new file in its place."""

from __future__ import annotations

import os
import shutil
from enum import Enum
from pathlib import Path


class Fate(Enum):
    """What has become of a file that was opened."""

    SAME = "same"
    REPLACED = "replaced"
    """Another file has its name, or none; the old content can still be read."""
    REWRITTEN = "rewritten"
    """The file itself was written to: its old content is gone."""


class Content:
    """An open file's bytes.

    Raises
    ------
    OSError
        If the file cannot be read.
    """

    def __init__(self, path: Path) -> None:
        self._file = path.open("rb")
        status = os.fstat(self._file.fileno())
        self._stamp = status.st_size, status.st_mtime_ns

    def fate(self, path: Path) -> Fate:
        """Return what has become of the file that was opened under ``path``."""
        own = os.fstat(self._file.fileno())
        if (own.st_size, own.st_mtime_ns) != self._stamp:
            return Fate.REWRITTEN
        try:
            return Fate.SAME if os.path.samestat(own, path.stat()) else Fate.REPLACED
        except OSError:
            return Fate.REPLACED

    def copy_to(self, path: Path) -> None:
        """Write the content to another file with the same time, and make it safe on the disk.

        Raises
        ------
        OSError
            If that cannot be.
        """
        with path.open("xb") as copy:
            try:
                self._file.seek(0)
                shutil.copyfileobj(self._file, copy, 1 << 20)
                copy.flush()
                os.fsync(copy.fileno())
                os.utime(copy.fileno(), ns=(self._stamp[1], self._stamp[1]))
            except BaseException:
                path.unlink(missing_ok=True)
                raise

    def close(self) -> None:
        """Let go of it."""
        self._file.close()
