"""Names for new files, so that nothing is written over."""

from __future__ import annotations

import os
from pathlib import Path


def free_path(path: Path) -> Path:
    """Return a path if nothing stands there, else the first free one of ``tape-2.wav``, ``tape-3.wav`` and so on."""
    number, free = 1, path
    while free.exists():
        number += 1
        free = path.with_stem(f"{path.stem}-{number}")
    return free


def folder_beside(home: Path) -> Path:
    """Return a file's folder, or the person's own where that may not be written to."""
    return home.parent if os.access(home.parent, os.W_OK) else Path.home()
