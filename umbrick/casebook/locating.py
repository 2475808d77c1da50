"""Where a casebook's recordings are: paths relative where they can be, and finding a file that has moved."""

from __future__ import annotations

import os
from enum import Enum
from pathlib import Path
from urllib.parse import quote, unquote_to_bytes

from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.sound_file import stamp_of

_ESCAPED = "escaped:"
"""Begins what stands for a path that is no text: Linux takes any bytes for a name, a database column does not."""


class Match(Enum):
    """How a file compares with what a casebook remembers of it."""

    SAME = "same"
    CHANGED = "changed"
    MISSING = "missing"


def relative(path: Path, folder: Path) -> str:
    """Return a path as it is written in a casebook of that folder: relative where it lies in or below it."""
    path = path.absolute()
    text = str(path.relative_to(folder)) if path.is_relative_to(folder) else str(path)
    encoded = os.fsencode(text)
    try:
        encoded.decode()
    except UnicodeDecodeError:
        return _ESCAPED + quote(encoded)
    return _ESCAPED + quote(encoded) if text.startswith(_ESCAPED) else text


def absolute(text: str, folder: Path) -> Path:
    """Return the path that a casebook of that folder means."""
    if text.startswith(_ESCAPED):
        text = os.fsdecode(unquote_to_bytes(text.removeprefix(_ESCAPED)))
    return Path(os.path.normpath(folder / text))


def stat_of(path: Path) -> tuple[int, int]:
    """Return size and time of a file as a casebook keeps them; zeros if there is no such file."""
    return stamp_of(path) or (0, 0)


def compare(path: Path, size: int, modified_ns: int, sha256: str) -> Match:
    """Return whether a file is what a casebook remembers; may read all of it, so not for the window.

    Size and time together are taken for the content, as everywhere; else its SHA-256 decides, if it is known.
    """
    stamp = stamp_of(path)
    if stamp is None:
        return Match.MISSING
    if stamp == (size, modified_ns):
        return Match.SAME
    if stamp.size != size or not sha256:
        return Match.CHANGED
    try:
        return Match.SAME if sha256_of(path) == sha256 else Match.CHANGED
    except OSError:
        return Match.MISSING


def found_beside(path: Path, folder: Path) -> Path | None:
    """Return the file of the same name in the casebook's own folder, if there is one and ``path`` is not there."""
    beside = folder / path.name
    return beside if not path.exists() and beside.is_file() else None
