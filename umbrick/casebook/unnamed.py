"""Unnamed casebooks: where work is kept that nobody has given a name to yet."""

from __future__ import annotations

import shutil
import uuid
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from umbrick.casebook.casebook import Casebook
from umbrick.casebook.errors import CasebookError, CasebookInUseError
from umbrick.casebook.shelf import SAVED_AT
from umbrick.casebook.store import SUFFIX
from umbrick.core.paths import work_folder
from umbrick.core.sound.part_file import sweep


def unnamed_folder() -> Path:
    """Return the folder of unnamed casebooks."""
    return work_folder() / "unnamed"


def create_unnamed() -> Casebook:
    """Make a new casebook in Umbrick's own folder; CasebookError if it cannot be written to."""
    folder = unnamed_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise CasebookError(
            f"Umbrick's own folder cannot be written to: {error.strerror}.", f"It is {folder}."
        ) from error
    return Casebook.create(folder / f"{uuid.uuid4().hex}{SUFFIX}")


def adopted(path: Path) -> Casebook:
    """Open a copy of a casebook that may not be written where it is; its recordings stay where they are.

    Raises
    ------
    CasebookError
        If it cannot be read, or Umbrick's own folder not be written to.
    """
    target = unnamed_folder() / f"{uuid.uuid4().hex}{SUFFIX}"
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        for suffix in ("", "-wal"):
            if (part := path.with_name(path.name + suffix)).exists():
                shutil.copyfile(part, target.with_name(target.name + suffix))
    except OSError as error:
        raise CasebookError(f"{path.name} cannot be copied: {error.strerror}.", "It was not touched.") from error
    casebook = Casebook.open(target)
    casebook.came_from(path.parent.absolute())
    return casebook


def is_unnamed(path: Path) -> bool:
    """Return whether a casebook is one of those."""
    return path.parent == unnamed_folder().absolute()


class Left(NamedTuple):
    """Unnamed work that no window has open, and what it is, for a person: ``Work on bell of 3 March, 14:05``.

    ``is_in_files`` tells whether all of it is in files that were saved.
    """

    path: Path
    title: str
    is_in_files: bool = False


def left_behind() -> list[Left]:
    """Return unnamed work of earlier starts, newest first; casebooks that hold none are deleted."""
    found = []
    for folder in (unnamed_folder(), work_folder(), work_folder() / "kept"):
        sweep(folder)  # what killed processes have left half written
    for path in unnamed_folder().absolute().glob(f"*{SUFFIX}"):
        changed = path.stat().st_mtime
        try:
            casebook = Casebook.open(path)
        except CasebookInUseError:
            continue
        except CasebookError:
            found.append((changed, Left(path, f"Damaged work of {_when(changed)}")))
            continue
        try:
            held = [shelf.reference() for shelf in casebook.shelves() if shelf.is_worth_keeping()]
            names = [reference.home.stem for reference in held]
            what = " and ".join(names[:2]) + (f" and {len(names) - 2} more" if len(names) > 2 else "")
            is_in_files = all(reference.view.get(SAVED_AT) == reference.now for reference in held)
        except CasebookError:
            names, what, is_in_files = ["?"], "recordings", False
        if names:
            casebook.close()
            found.append((changed, Left(path, f"Work on {what} of {_when(changed)}", is_in_files)))
        else:
            casebook.discard()
    return [left for _, left in sorted(found, reverse=True)]


def _when(changed: float) -> str:
    moment = datetime.fromtimestamp(changed)
    return f"{moment.day} {moment:%B}, {moment:%H:%M}"
