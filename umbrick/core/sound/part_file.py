"""Files on their way: written hidden beside their place, and put there in one step when they are whole."""

from __future__ import annotations

import errno
import fcntl
import os
import tempfile
import time
from contextlib import suppress
from pathlib import Path
from types import TracebackType

from umbrick.core.errors import FileError

_PREFIX, _SUFFIX = ".umbrick-", ".part"
_YOUNG_SECONDS = 60.0
"""Younger ones are never swept: they may have been made but not locked yet."""

NO_LINKS = (errno.EPERM, errno.EOPNOTSUPP, errno.EMLINK, errno.EXDEV)
"""What a file system says that gives no file a second name."""


class PartFile:
    """A hidden file that is to take a name when it is whole, and is deleted if it does not.

    Its name is random and its own, so that no link planted under it can lead elsewhere. While it is open it is
    locked: what is left of a process that was killed is told by that from what another one still writes.

    Parameters
    ----------
    folder : Path
        Where it is made: that of the file it is to become.
    ending : str
        An ending by which other libraries tell what is in it, such as ``.flac``.

    Raises
    ------
    OSError
        If it cannot be made.
    """

    def __init__(self, folder: Path, ending: str = "") -> None:
        self.handle, name = tempfile.mkstemp(prefix=_PREFIX, suffix=f"{_SUFFIX}{ending}", dir=folder)
        self.path = Path(name)
        with suppress(OSError):  # not every file system has locks
            fcntl.flock(self.handle, fcntl.LOCK_EX | fcntl.LOCK_NB)

    def __enter__(self) -> PartFile:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Let go of it, and delete it unless it has taken its name."""
        if self.handle >= 0:
            self.path.unlink(missing_ok=True)
            os.close(self.handle)
            self.handle = -1

    def write(self, data: bytes) -> None:
        """Write all of some bytes at its end; OSError if there is no room for all of them."""
        write_all(self.handle, data)

    def dress(self, like: Path | None = None) -> None:
        """Give it the owner and rights of a file, as far as they may be given; else those of any new file."""
        try:
            model = like.stat() if like is not None else None
        except OSError:
            model = None
        if model is None:
            mask = os.umask(0o077)
            os.umask(mask)
            os.fchmod(self.handle, 0o666 & ~mask)
            return
        with suppress(PermissionError):
            os.fchown(self.handle, model.st_uid, model.st_gid)
        with suppress(PermissionError):
            os.fchmod(self.handle, model.st_mode & 0o7777)

    def take_name(self, path: Path, like: Path | None = None) -> None:
        """Dress it like a file, have it on the disk, then put it in place of a name in one step."""
        self.dress(like)
        os.fsync(self.handle)
        os.replace(self.path, path)

    def take_name_lightly(self, path: Path) -> None:
        """Put it in place of a name in one step, without waiting for the disk: for what can be made again."""
        os.replace(self.path, path)

    def take_free_name(self, path: Path) -> None:
        """Dress it as a new file, have it on the disk, then give it a name; FileExistsError if that has been taken."""
        self.dress()
        os.fsync(self.handle)
        try:
            os.link(self.path, path)  # unlike a renaming, it fails if the name has been taken meanwhile
        except OSError as error:
            if error.errno not in NO_LINKS:
                raise
            os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
            os.replace(self.path, path)


def is_part(path: Path) -> bool:
    """Return whether a file is on its way, by its name."""
    return path.name.startswith(_PREFIX) and _SUFFIX in path.name


def write_all(handle: int, data: bytes) -> None:
    """Write all of some bytes: a disk that is nearly full takes just some of them without an error."""
    view = memoryview(data)
    while view:
        view = view[os.write(handle, view) :]


def sweep(folder: Path) -> None:
    """Delete what killed processes have left of their files on the way in a folder; what is in use stays."""
    with suppress(OSError):
        for path in folder.glob(f"{_PREFIX}*{_SUFFIX}*"):
            with suppress(OSError):
                _sweep_one(path)


def real_target(path: Path) -> Path:
    """Return where a file of that name is to be written: through a link, what it leads to.

    Raises
    ------
    FileError
        If the link leads nowhere, or something other than a file stands there.
    """
    try:
        target = path.resolve() if path.is_symlink() else path
        is_there, is_file = target.exists(), target.is_file()
    except (OSError, RuntimeError, ValueError) as error:  # a loop of links, no permission, a name that is too long
        told = getattr(error, "strerror", None) or "its name leads nowhere"
        raise FileError(f"{path.name[:80]} cannot be written: {told}.", "Nothing was changed.") from error
    if path.is_symlink() and not is_there:
        raise FileError(f"{path.name} is a link that leads nowhere.", "It was not touched; choose another name.")
    if is_there and not is_file:
        raise FileError(f"{path.name} is not a file, so none can take its place.", "It was not touched.")
    return target


def _sweep_one(path: Path) -> None:
    handle = os.open(path, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if time.time() - os.fstat(handle).st_mtime > _YOUNG_SECONDS:
            path.unlink(missing_ok=True)
    finally:
        os.close(handle)
