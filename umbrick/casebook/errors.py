"""What can go wrong with a casebook, in plain words."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from umbrick.core.errors import FileError


class CasebookError(FileError):
    """A casebook cannot be opened or written."""


class DamagedCasebookError(CasebookError):
    """Part of a casebook makes no sense; the rest may."""


class CasebookInUseError(CasebookError):
    """Another Umbrick works in this casebook."""


@contextmanager
def translated(path: Path) -> Iterator[None]:
    """Turn what a database raises in the block into a :class:`CasebookError`.

    Of a damaged file SQLite hands out texts that are none, numbers beyond all bounds, and lets the system's own
    errors through.
    """
    try:
        yield
    except sqlite3.Error as error:
        raise explained(error, path) from error
    except (UnicodeError, OverflowError) as error:
        raise DamagedCasebookError(
            f"The casebook {path.name} is damaged: it holds a text or number that is none."
        ) from error
    except OSError as error:
        raise CasebookError(f"The casebook {path.name} cannot be used: {error.strerror}.") from error


def explained(error: sqlite3.Error, path: Path) -> CasebookError:
    """Return a database error as a sentence for a person."""
    name = getattr(error, "sqlite_errorname", "")
    if name.startswith("SQLITE_FULL"):
        return CasebookError(
            f"There is no room left on the disk of {path.name}.", "Nothing was changed; make room and try again."
        )
    if name.startswith(("SQLITE_READONLY", "SQLITE_CANTOPEN", "SQLITE_PERM")):
        return CasebookError(f"The casebook {path.name} may not be written to.", "Nothing was changed.")
    if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED")):
        return CasebookInUseError(f"The casebook {path.name} is in use by another program.", "Close it there first.")
    if name.startswith(("SQLITE_CORRUPT", "SQLITE_NOTADB")):
        return DamagedCasebookError(f"The casebook {path.name} is damaged: {error}.")
    if name.startswith("SQLITE_IOERR"):
        return CasebookError(f"The disk of {path.name} failed, or has no room left: {error}.", "Nothing was changed.")
    if name.startswith(("SQLITE_MISMATCH", "SQLITE_TOOBIG")) or "decode" in str(error).lower():
        return DamagedCasebookError(f"The casebook {path.name} is damaged: {error}.")
    return CasebookError(f"The casebook {path.name} cannot be used: {error}.")
