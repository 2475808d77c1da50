"""Saving what can be saved of a damaged casebook. The damaged file itself is never changed."""

from __future__ import annotations

import shutil
import sqlite3
import tempfile
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from umbrick.casebook import schema
from umbrick.casebook.errors import CasebookError, DamagedCasebookError
from umbrick.casebook.patches import Stored
from umbrick.casebook.shelf import Shelf
from umbrick.casebook.store import SUFFIX, Store, keep_settled
from umbrick.core.free_names import free_path
from umbrick.core.timeline.history import Entry, History
from umbrick.core.timeline.lifting import StandsOnError, lift_off
from umbrick.core.units import format_count

_ORPHANS = (
    "DELETE FROM edits WHERE recording NOT IN (SELECT id FROM recordings)",
    "DELETE FROM changes WHERE (recording, edit) NOT IN (SELECT recording, number FROM edits)",
    "DELETE FROM mends WHERE (recording, edit) NOT IN (SELECT recording, number FROM edits)",
    "DELETE FROM patches WHERE (recording, edit) NOT IN (SELECT recording, number FROM edits)",
    "DELETE FROM patch_chunks WHERE patch NOT IN (SELECT id FROM patches)",
    "DELETE FROM snapshots WHERE recording NOT IN (SELECT id FROM recordings)",
    "DELETE FROM surveys WHERE recording NOT IN (SELECT id FROM recordings)",
    "DELETE FROM findings WHERE recording NOT IN (SELECT id FROM recordings)",
)


def recover(path: Path, folder: Path) -> tuple[Path, str]:
    """Copy what can be read of a damaged casebook into a new one.

    Parameters
    ----------
    path : Path
        The damaged file, and the log beside it; they are only read.
    folder : Path
        Where the new one goes.

    Returns
    -------
    Path, str
        The new casebook, and a sentence that says what could not be saved.

    Raises
    ------
    DamagedCasebookError
        If nothing can be read at all.
    CasebookError
        If the new one cannot be written.
    """
    target = free_path(folder / f"{path.stem}-saved{SUFFIX}")
    with tempfile.TemporaryDirectory(prefix="umbrick-") as scratch:
        # SQLite would play the log into the file itself: it works on a copy of both.
        copy = Path(scratch) / path.name
        try:
            for suffix in ("", "-wal"):
                if (part := path.with_name(path.name + suffix)).exists():
                    shutil.copyfile(part, copy.with_name(copy.name + suffix))
        except OSError as error:
            raise CasebookError(f"{path.name} cannot be read: {error.strerror}.") from error
        damaged = sqlite3.connect(copy)
        store = Store(target, create=True)
        try:
            damaged.execute("PRAGMA trusted_schema = OFF")
            with store.transaction() as connection:
                connection.execute("PRAGMA defer_foreign_keys = ON")
                lost = [_copy_table(damaged, connection, table) for table in schema.tables()]
                for statement in _ORPHANS:
                    connection.execute(statement)
            if store.row("SELECT 1 FROM recordings") is None:
                raise DamagedCasebookError(f"Nothing can be read of the casebook {path.name}.", "It was not touched.")
        except BaseException:
            store.discard()
            raise
        finally:
            damaged.close()
        with suppress(OSError):
            keep_settled(
                [path.with_suffix(store.settled_folder.suffix) / one.name for one in store.settled_files()], target
            )
        store.close()
    missing = "; ".join(filter(None, lost))
    return target, f"Not everything could be read: {missing}." if missing else ""


def lift_off_broken(shelf: Shelf, history: History) -> str:
    """Lift off mends whose samples are missing or no numbers, and those that stand on them.

    Returns
    -------
    str
        A sentence that says how many, or empty.
    """
    broken = {id(source) for source in history.current.sources if isinstance(source, Stored) and not source.is_intact()}
    chosen: dict[str, Entry] = {
        entry.mend.id: entry
        for entry in history.ledger
        if entry.is_on and any(id(source) in broken for source in entry.change.inserted.sources)
    }
    if not chosen:
        return ""
    while True:
        try:
            edit = lift_off(history, chosen)
            break
        except StandsOnError as error:
            more = {entry.mend.id: entry for entry in error.blockers if entry.mend.id not in chosen}
            if not more:
                raise DamagedCasebookError("Samples of mends are missing, and they cannot be lifted off.") from error
            chosen |= more
    shelf.commit(history, edit)
    return f"The samples of {format_count(len(chosen), 'mend')} were lost; those places are as they were before."


def _copy_table(damaged: sqlite3.Connection, connection: sqlite3.Connection, table: str) -> str:
    """Copy the rows that can be read; return which could not, or nothing."""
    own = [row[1] for row in connection.execute(f"PRAGMA table_info({table})")]
    try:
        known = {row[1] for row in damaged.execute(f"PRAGMA table_info({table})")}
    except sqlite3.Error:
        known = set()
    columns = [name for name in own if name in known]
    if not columns:
        return f"the table of {table}"
    names = ", ".join(columns)
    insert = f"INSERT OR IGNORE INTO {table} ({names}) VALUES ({', '.join('?' * len(columns))})"
    refused = 0
    whole = True
    for backwards in (False, True):
        reading = _rows(damaged, f"SELECT {names} FROM {table}{' ORDER BY rowid DESC' if backwards else ''}")
        try:
            for row in reading:
                try:
                    connection.execute(insert, row)
                except sqlite3.IntegrityError:
                    refused += 1
        except sqlite3.DatabaseError:
            whole = False
            continue  # from the other end, what lies behind the damage can be read too
        break
    if not whole:
        return f"part of the {table.replace('_', ' ')}"
    return format_count(refused, f"row of the {table.replace('_', ' ')}") if refused else ""


def _rows(connection: sqlite3.Connection, query: str) -> Iterator[tuple[Any, ...]]:
    yield from connection.execute(query)
