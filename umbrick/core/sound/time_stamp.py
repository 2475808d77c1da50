"""When a broadcast WAV file says that its sound begins."""

from __future__ import annotations

import struct
from pathlib import Path

from umbrick.core.sound.chunks import riff_chunks
from umbrick.core.sound.coding_history import BEXT, TIME_REFERENCE_AT


def begins_at(path: Path) -> int | None:
    """Return the first frame's number since midnight, by the time reference of the ``bext`` chunk; None without one."""
    try:
        with path.open("rb") as file:
            for chunk in riff_chunks(file):
                if chunk.name == BEXT and chunk.length >= TIME_REFERENCE_AT + 8:
                    file.seek(chunk.offset + TIME_REFERENCE_AT)
                    return int(struct.unpack("<Q", file.read(8))[0]) or None
    except (OSError, struct.error):
        return None
    return None
