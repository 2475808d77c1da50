"""Old files that were kept when others took their place, and bringing them back.

Each is written down in Umbrick's own folder, so that one command finds it again, whatever was closed or restarted.
"""

from __future__ import annotations

import json
import os
import shutil
import time
import uuid
from pathlib import Path
from typing import NamedTuple

from umbrick.core.errors import FileError
from umbrick.core.free_names import free_path, named_after
from umbrick.core.paths import work_folder
from umbrick.core.sound.part_file import NO_LINKS, PartFile, real_target, sweep
from umbrick.core.sound.whole_file import explained, make_safe, write_whole

_BLOCK_BYTES = 1 << 20


class Kept(NamedTuple):
    """An old file: where it was, where it is now, since when (seconds since 1970), and the note that says so."""

    home: Path
    path: Path
    at: float
    note: Path


def kept_folder() -> Path:
    """Return Umbrick's own folder for old files."""
    return work_folder() / "kept"


def free_name(folder: Path, home: Path, word: str) -> Path:
    """Return a free name for an old file in a folder: ``tape.original.wav``, ``tape.original-2.wav``."""
    return free_path(folder / named_after(home, word))


def write_down(home: Path, path: Path) -> None:
    """Note that the old file of ``home`` is kept as ``path``; FileError if that cannot be written."""
    folder = kept_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(*explained(error, folder)) from error
    note = {"home": str(home.absolute()), "path": str(path.absolute()), "at": time.time()}
    write_whole(folder / f"{uuid.uuid4().hex}.json", json.dumps(note).encode())


def kept_of(home: Path) -> list[Kept]:
    """Return the old files of a place that are still there, newest first."""
    home = home.absolute()
    found = []
    for note in kept_folder().glob("*.json"):
        try:
            held = json.loads(note.read_bytes())
            one = Kept(Path(held["home"]), Path(held["path"]), float(held["at"]), note)
        except (OSError, ValueError, KeyError, TypeError):
            continue
        if one.home == home and one.path.is_file() and not one.path.is_symlink():
            found.append(one)
    return sorted(found, key=lambda kept: -kept.at)


def bring_back(home: Path) -> tuple[Kept, Path | None]:
    """Put the newest old file back in its place, in one step; what stood there is kept beside the old file.

    Returns
    -------
    Kept, Path or None
        The old file, which also stays where it was kept; and where the replaced file is now.

    Raises
    ------
    FileError
        If there is none, or it cannot be put back; nothing has changed then.
    """
    home = real_target(home).absolute()
    found = kept_of(home)
    if not found:
        raise FileError(f"No old file of {home.name} is kept.", "Only files that Umbrick put others in place of are.")
    old = found[0]
    replaced = free_name(old.path.parent, home, "mended") if home.exists() else None
    try:
        if replaced:
            keep(home, replaced)
        sweep(home.parent)
        # A copy: a second name would let another program change both.
        with PartFile(home.parent, home.suffix) as part, old.path.open("rb") as file:
            while block := file.read(_BLOCK_BYTES):
                part.write(block)
            os.utime(part.handle, ns=(time.time_ns(), old.path.stat().st_mtime_ns))
            part.take_name(home, like=old.path)
        old.note.unlink(missing_ok=True)
    except OSError as error:
        raise FileError(*explained(error, home)) from error
    return old, replaced


def keep(path: Path, keep_as: Path) -> None:
    """Give a file a second name, or copy it where that cannot be: it is whole and on the disk before this returns."""
    try:
        os.link(path, keep_as)
    except OSError as error:
        if error.errno not in NO_LINKS:
            raise
        shutil.copy2(path, keep_as)
        make_safe(keep_as)
