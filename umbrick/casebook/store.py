"""The file itself: opening, checking, and transactions."""

from __future__ import annotations

import os
import re
import shutil
import sqlite3
import threading
import uuid
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from umbrick import __version__
from umbrick.casebook import migrations, schema
from umbrick.casebook.errors import CasebookError, DamagedCasebookError, translated
from umbrick.casebook.limits import LARGEST_BLOB, checked
from umbrick.casebook.lock import Lock
from umbrick.casebook.patches import Reader
from umbrick.core.plain_text import plain_line
from umbrick.core.sound.kept_originals import keep
from umbrick.core.sound.part_file import PartFile, sweep

SUFFIX = ".casebook"
_SETTLED_SUFFIX = ".settled"
SETTLED_NAME = re.compile(r"[0-9a-f]{32}\.w64")
"""What files of settled sound are called: after their content, so that a name leads nowhere else."""

_CACHE_KIB = 8192


class Store:
    """An open casebook file. Any thread may use it; one transaction runs at a time."""

    def __init__(self, path: Path, *, create: bool = False) -> None:
        """Open a casebook, bringing it up to the present schema, or make one.

        Raises
        ------
        CasebookInUseError
            If it is open elsewhere.
        DamagedCasebookError
            If it is no whole casebook (see :mod:`umbrick.casebook.recovery`).
        CasebookError
            If it cannot be read or written, or comes from a later version of Umbrick.
        """
        self.path = path.absolute()
        self._lock = threading.RLock()
        if create and path.exists():
            raise CasebookError(f"{path.name} exists already.", "It was not touched; choose another name.")
        if not create and not os.access(path, os.R_OK):
            raise CasebookError(f"The casebook {path} is not there, or may not be read.")
        self._own = Lock(self.path)
        try:
            with translated(self.path):
                self._connection = sqlite3.connect(self.path, isolation_level=None, check_same_thread=False)
                try:
                    self._prepare(create)
                except BaseException:
                    self._connection.close()
                    raise
        except BaseException:
            if create:
                self._delete()
            self._own.release()
            raise
        self.reader = Reader(self.path)
        self._is_closed = False

    @property
    def id(self) -> str:
        """The casebook's own random name."""
        row = self.row("SELECT value FROM about WHERE name = 'id'")
        return str(row[0]) if row else ""

    @property
    def settled_folder(self) -> Path:
        """The folder beside the casebook with the sound files of what was settled; there may be none."""
        return self.path.with_suffix(_SETTLED_SUFFIX)

    def settled_files(self) -> list[Path]:
        """Return the files of settled sound that the casebook refers to."""
        names = [str(name) for (name,) in self.rows("SELECT DISTINCT file FROM patches WHERE file <> ''")]
        return [self.settled_folder / Path(name).name for name in names]

    def rows(self, sql: str, *values: Any) -> list[tuple[Any, ...]]:
        """Return the rows of a query."""
        with self._lock, translated(self.path):
            return checked(self._connection.execute(sql, values).fetchall())

    def row(self, sql: str, *values: Any) -> tuple[Any, ...] | None:
        """Return the first row of a query, or None."""
        rows = self.rows(sql, *values)
        return rows[0] if rows else None

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """Run statements that are all on the disk when the block has ended, or none of which happened.

        Within a block of the same thread it is a part of that one.

        Raises
        ------
        CasebookError
            If they could not be written: full disk, no permission, or a failing medium.
        """
        with self._lock, translated(self.path):
            if self._connection.in_transaction:
                yield self._connection  # part of one that this thread has begun: it ends with that
                return
            self._connection.execute("BEGIN IMMEDIATE")
            try:
                yield self._connection
                self._connection.execute("COMMIT")
            except BaseException:
                if self._connection.in_transaction:
                    self._connection.execute("ROLLBACK")
                raise

    def write(self, sql: str, *values: Any) -> None:
        """Run one statement as a transaction of its own."""
        with self.transaction() as connection:
            connection.execute(sql, values)

    def complaints(self) -> Sequence[str]:
        """Return what SQLite's own check finds wrong; it reads the whole file."""
        found = [str(row[0]) for row in self.rows("PRAGMA quick_check(5)")]
        return [] if found == ["ok"] else found

    def copy_to(self, path: Path) -> None:
        """Write the whole casebook to another file, which must not exist; nothing is left of it if that fails."""
        if os.path.lexists(path):
            raise CasebookError(f"{path.name} exists already.", "It was not touched; choose another name.")
        try:
            sweep(path.parent)
            with PartFile(path.parent) as part:
                with translated(path), self._lock:
                    target = sqlite3.connect(part.path)
                    try:
                        self._connection.backup(target)
                        target.execute("PRAGMA journal_mode = DELETE")
                    finally:
                        target.close()
                part.take_free_name(path)
            keep_settled(self.settled_files(), path)
        except OSError as error:
            raise CasebookError(f"{path} cannot be written: {error.strerror}.", "Nothing was changed.") from error

    def close(self) -> None:
        """Let go of the file; closing twice does nothing."""
        self.reader.close()
        with self._lock:
            if self._is_closed:
                return
            self._is_closed = True
            self._purge()
            # If it fails, what was committed is in the log beside it, and is taken from there at the next start.
            with suppress(sqlite3.Error):
                self._connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            self._connection.close()
        self._own.release()

    def discard(self) -> None:
        """Close, and delete the file."""
        self.close()
        self._delete()
        shutil.rmtree(self.settled_folder, ignore_errors=True)

    def _delete(self) -> None:
        for suffix in ("", "-wal", "-shm"):
            self.path.with_name(self.path.name + suffix).unlink(missing_ok=True)

    def _prepare(self, create: bool) -> None:
        connection = self._connection
        connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, LARGEST_BLOB)
        connection.execute("PRAGMA trusted_schema = OFF")
        connection.execute("PRAGMA cell_size_check = ON")
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute(f"PRAGMA cache_size = -{_CACHE_KIB}")
        if not create:
            check_header(connection, self.path)
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = FULL")
        if create:
            schema.create(connection)
            about = [("id", uuid.uuid4().hex), ("program", f"Umbrick {__version__}")]
            connection.executemany("INSERT INTO about VALUES (?, ?)", about)
        else:
            migrations.migrate(connection)
            check_tables(connection, self.path)
            self._purge()

    def _purge(self) -> None:
        """Delete the samples of dropped edits: nobody can read them before the file is open, or once it is closed."""
        with suppress(sqlite3.Error):  # if there is no room for that, it can wait
            self._connection.execute("DELETE FROM patches WHERE edit IS NULL")
            self._drop_unused_files()

    def _drop_unused_files(self) -> None:
        if not self.settled_folder.is_dir():
            return
        rows = self._connection.execute("SELECT DISTINCT file FROM patches WHERE file <> ''").fetchall()
        used = {name for (name,) in rows}
        for file in self.settled_folder.glob("*"):
            if file.name not in used and SETTLED_NAME.fullmatch(file.name):
                with suppress(OSError):
                    file.unlink()


def keep_settled(files: Sequence[Path], casebook: Path) -> None:
    """Have another casebook find files of settled sound beside it, too; OSError if it cannot."""
    folder = casebook.with_suffix(_SETTLED_SUFFIX)
    for file in files:
        if file.exists() and not (folder / file.name).exists():
            folder.mkdir(exist_ok=True)
            keep(file, folder / file.name)


def check_header(connection: sqlite3.Connection, path: Path) -> None:
    """Raise unless the file says that it is a casebook of a schema known here."""
    application_id = connection.execute("PRAGMA application_id").fetchone()[0]
    version = connection.execute("PRAGMA user_version").fetchone()[0]
    if application_id != schema.APPLICATION_ID:
        raise CasebookError(f"{path.name} is not a casebook.", "It was not touched.")
    if version > schema.VERSION:
        raise CasebookError(
            f"The casebook {path.name} was written by a later version of Umbrick.", "Open it there; it was not touched."
        )
    if version < 1:
        raise DamagedCasebookError(f"The casebook {path.name} does not say which schema it has.")


def check_tables(connection: sqlite3.Connection, path: Path) -> None:
    """Raise unless the tables are exactly those of the present schema, with nothing that could run by itself."""
    wanted = {key: schema.plain(sql) for key, sql in schema.texts().items()}
    found = {key: schema.plain(sql) for key, sql in schema.held_texts(connection).items()}
    if found != wanted:
        strange = sorted({name for (_, name), _ in found.items() ^ wanted.items()})
        what = f" ({plain_line(', '.join(strange))})" if strange else ""
        raise DamagedCasebookError(f"The tables of {path.name} are not those of a casebook{what}.")
