"""Writing small files so that they are either whole or not there."""

from __future__ import annotations

import errno
import os
import tempfile
from pathlib import Path

from umbrick.core.errors import FileError


def write_whole(path: Path, data: bytes, overwrite: bool = False) -> None:
    """Write a file beside its place, make it safe on the disk, and put it there in one step.

    Raises
    ------
    FileError
        If it cannot be written, or exists and may not be replaced; nothing has changed then.
    """
    if path.exists() and not overwrite:
        raise FileError(f"{path.name} exists already.", "It was not touched; choose another name.")
    part: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
        part = Path(name)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        part.chmod(0o644)
        os.replace(part, path)
    except OSError as error:
        raise FileError(*explained(error, path)) from error
    finally:
        if part is not None:
            part.unlink(missing_ok=True)


def make_safe(path: Path) -> None:
    """Have what was written to a file, or which names a folder holds, on the disk; OSError if that cannot be."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def explained(error: OSError, path: Path) -> tuple[str, str]:
    """Return what happened when a file could not be written, and what is safe."""
    safe = "Nothing was changed; choose another folder."
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return f"There is no room left for {path.name}.", "Nothing was changed; make room or choose another disk."
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return f"The folder {path.parent} may not be written to.", safe
    if error.errno == errno.ENOENT:
        return f"There is no folder {path.parent}.", safe
    return f"{path.name} cannot be written: {error.strerror or error}.", safe
