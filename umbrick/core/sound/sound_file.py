"""The one door by which sound files are opened for reading: regular files alone, whatever their names and paths."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from typing import NamedTuple

import soundfile

from umbrick.core.errors import FileError


class Stamp(NamedTuple):
    """Size in bytes and time of the last change in ns: both together are taken for a file's content."""

    size: int
    modified_ns: int


def real_path(path: Path) -> Path:
    """Return the absolute path of a file; of a link, that of the file it leads to.

    A recording is the file with the sound: what is put back in place goes there, and the link stays a link.
    """
    try:
        return path.resolve() if path.is_symlink() else path.absolute()
    except (OSError, RuntimeError):  # a loop of links: that it leads nowhere is told when it is opened
        return path.absolute()


def stamp_of(path: Path) -> Stamp | None:
    """Return the stamp of a regular file, or None if there is none under that name."""
    try:
        status = path.stat()
    except (OSError, ValueError):
        return None
    return Stamp(status.st_size, status.st_mtime_ns) if stat.S_ISREG(status.st_mode) else None


def checked_stamp(path: Path) -> Stamp:
    """Return the stamp of a file that is to be read.

    A pipe or a device would be waited for without end, so what is no regular file is refused before it is opened.

    Raises
    ------
    FileError
        If there is no such file, it may not be read, or it is something other than a file.
    """
    try:
        status = path.stat()
    except (FileNotFoundError, NotADirectoryError) as error:
        raise FileError(f"There is no file {path}.") from error
    except PermissionError as error:
        raise FileError(f"{path.name} may not be read.", "Ask for permission to read it, or copy it.") from error
    except (OSError, ValueError) as error:
        told = getattr(error, "strerror", None) or "its name is none"
        raise FileError(f"{path.name[:80]} cannot be read: {told}.") from error
    if stat.S_ISDIR(status.st_mode):
        raise FileError(f"{path.name} is a folder.", "Open a sound file in it.")
    if not stat.S_ISREG(status.st_mode):
        raise FileError(f"{path.name} is not a file but a pipe or a device.", "Save its sound to a file first.")
    return Stamp(status.st_size, status.st_mtime_ns)


def open_sound(path: Path) -> soundfile.SoundFile:
    """Open a sound file for reading.

    The library is handed the open file: it cannot encode every name that Linux allows, nor paths beyond 1 KB.

    Raises
    ------
    OSError
        If the file cannot be opened.
    soundfile.LibsndfileError
        If it is not sound.
    """
    return soundfile.SoundFile(os.open(path, os.O_RDONLY | os.O_CLOEXEC), closefd=True)
