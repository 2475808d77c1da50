"""Names for new files, so that nothing is written over and none is too long."""

from __future__ import annotations

import os
from pathlib import Path

_LONGEST_NAME = 255
"""Bytes that a file's name may have on nearly every file system."""


def free_path(path: Path) -> Path:
    """Return a path if nothing stands there, else the first free one of ``tape-2.wav``, ``tape-3.wav`` and so on.

    A name that is too long loses the end of its stem.
    """
    number = 1
    free = _fitting(path, "")
    while os.path.lexists(free):
        number += 1
        free = _fitting(path, f"-{number}")
    return free


def folder_beside(home: Path) -> Path:
    """Return a file's folder, or the person's own where that may not be written to."""
    return home.parent if os.access(home.parent, os.W_OK) else Path.home()


def named_after(home: Path, word: str) -> str:
    """Return a name such as ``tape.original.wav``, its stem cut so that the whole is not too long."""
    tail = f".{word}{home.suffix}"
    return _cut(home.stem, tail) + tail


def _fitting(path: Path, mark: str) -> Path:
    tail = mark + path.suffix
    return path.with_name(_cut(path.stem, tail) + tail)


def _cut(stem: str, tail: str) -> str:
    room = _LONGEST_NAME - len(os.fsencode(tail))
    encoded = os.fsencode(stem)
    if len(encoded) <= room:
        return stem
    return encoded[:room].decode("utf-8", "ignore")
