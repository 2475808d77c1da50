"""One Umbrick to a casebook: who works in one holds its lock, which ends with the process, however that ends."""

from __future__ import annotations

import fcntl
import hashlib
import os
from pathlib import Path

from umbrick.casebook.errors import CasebookError, CasebookInUseError
from umbrick.core.paths import work_folder


class Lock:
    """The lock of a casebook.

    It is a file of its own in Umbrick's folder: opening and closing the casebook itself beside SQLite would drop
    SQLite's own locks, and a person's folder stays clean.

    Raises
    ------
    CasebookInUseError
        If another process holds it.
    CasebookError
        If Umbrick's folder cannot be written to.
    """

    def __init__(self, casebook: Path) -> None:
        name = hashlib.blake2b(os.fsencode(casebook.resolve()), digest_size=16).hexdigest()
        self._path = work_folder() / "locks" / f"{name}.lock"
        while True:
            try:
                self._path.parent.mkdir(parents=True, exist_ok=True)
                self._handle = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o600)
            except OSError as error:
                raise CasebookError(
                    f"Umbrick's own folder cannot be written to: {error.strerror}.", f"It is {work_folder()}."
                ) from error
            try:
                fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as error:
                os.close(self._handle)
                raise CasebookInUseError(
                    f"The casebook {casebook.name} is open in another window of Umbrick.", "Close it there first."
                ) from error
            if self._is_the_file():
                return
            os.close(self._handle)  # whoever held it before has just deleted this file: another one counts now

    def release(self) -> None:
        """Let others have it."""
        self._path.unlink(missing_ok=True)
        os.close(self._handle)

    def _is_the_file(self) -> bool:
        try:
            return os.path.samestat(os.fstat(self._handle), os.stat(self._path))
        except FileNotFoundError:
            return False
