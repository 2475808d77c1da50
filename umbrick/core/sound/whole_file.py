"""Writing small files so that they are either whole or not there."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from umbrick.core.errors import FileError
from umbrick.core.sound.part_file import PartFile, real_target, sweep


def write_whole(path: Path, data: bytes, overwrite: bool = False) -> None:
    """Write a file beside its place, make it safe on the disk, and put it there in one step.

    A new file gets the rights that the person's umask gives; one that is replaced hands on its own.

    Raises
    ------
    FileError
        If it cannot be written, or exists and may not be replaced; nothing has changed then.
    """
    try:
        target = real_target(path)
        if target.exists() and not overwrite:
            raise FileError(f"{path.name} exists already.", "It was not touched; choose another name.")
        sweep(target.parent)
        with PartFile(target.parent) as part:
            part.write(data)
            part.take_name(target, like=target)
    except OSError as error:
        raise FileError(*explained(error, path)) from error


def make_safe(path: Path) -> None:
    """Have what was written to a file, or which names a folder holds, on the disk; OSError if that cannot be."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def refuse_no_folder(path: Path) -> None:
    """Raise FileError if there is no folder that a file could be written in: better at once than after the work."""
    if not path.parent.is_dir():
        raise FileError(*explained(FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT)), path))


def explained(error: OSError, path: Path) -> tuple[str, str]:
    """Return what happened when a file could not be written, and what is safe."""
    safe = "Nothing was changed; choose another folder."
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return f"There is no room left for {path.name}.", "Nothing was changed; make room or choose another disk."
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return f"The folder {path.parent} may not be written to.", safe
    if error.errno == errno.ENOENT:
        return f"There is no folder {path.parent}.", safe
    if error.errno == errno.ENAMETOOLONG:
        return f"The name {path.name[:40]}… is too long.", "Nothing was changed; choose a shorter one."
    return f"{path.name} cannot be written: {error.strerror or error}.", safe
