"""When a recording says that it begins: in the ``bext`` chunk of broadcast WAV files, or in field recorders' iXML."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import BinaryIO
from xml.etree import ElementTree

from umbrick.core.sound.chunks import Chunk, riff_chunks
from umbrick.core.sound.coding_history import BEXT, TIME_REFERENCE_AT

_IXML = b"iXML"
_MOST_BYTES = 1 << 20
_SPEED = "SPEED/TIMESTAMP_"


def begins_at(path: Path, rate: int) -> int | None:
    """Return the first frame's number since midnight; None if the file does not say.

    Parameters
    ----------
    path : Path
    rate : int
        The file's own, in Hz: what is told at another rate comes to frames of this one.
    """
    try:
        with path.open("rb") as file:
            chunks = riff_chunks(file)
            by_bext = (_by_bext(file, chunk) for chunk in chunks if chunk.name == BEXT)
            by_ixml = (_by_ixml(file, chunk, rate) for chunk in chunks if chunk.name == _IXML)
            return next((told for told in (*by_bext, *by_ixml) if told), None)
    except (OSError, struct.error):
        return None


def _by_bext(file: BinaryIO, chunk: Chunk) -> int | None:
    if chunk.length < TIME_REFERENCE_AT + 8:
        return None
    file.seek(chunk.offset + TIME_REFERENCE_AT)
    return int(struct.unpack("<Q", file.read(8))[0])


def _by_ixml(file: BinaryIO, chunk: Chunk, rate: int) -> int | None:
    file.seek(chunk.offset)
    text = file.read(min(chunk.length, _MOST_BYTES)).rstrip(b"\0 \r\n")
    if b"<!DOCTYPE" in text or b"<!ENTITY" in text:
        return None  # no recorder writes any, and what they can make a reader do is no use here
    try:
        root = ElementTree.fromstring(text)
        high, low, own_rate = (
            int(root.findtext(f"{_SPEED}{name}") or default)
            for name, default in (
                ("SAMPLES_SINCE_MIDNIGHT_HI", "0"),
                ("SAMPLES_SINCE_MIDNIGHT_LO", "0"),
                ("SAMPLE_RATE", str(rate)),
            )
        )
    except (ElementTree.ParseError, ValueError, LookupError):
        return None
    return round(((high << 32) + low) * rate / own_rate) if own_rate > 0 else None
