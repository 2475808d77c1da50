"""Cue points of WAV files: markers with labels, notes and lengths, as other programs read them.

The chunks are those of the Multimedia Programming Interface and Data Specifications 1.0 (IBM and Microsoft, 1991):
``cue `` for the places, and in ``LIST adtl`` a ``labl`` for each name, a ``note`` for each note, and a ``ltxt`` for
each length.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from umbrick.core.errors import FileError
from umbrick.core.sound.chunks import riff_chunks

CUE, LIST, ASSOCIATED = b"cue ", b"LIST", b"adtl"
_POINT = struct.Struct("<II4sIII")
_LENGTH = struct.Struct("<II4sHHHH")
_MOST_BYTES = 64 * 2**20
"""Bytes of cue points and labels that are read in all."""

_LAST_FRAME = 2**32 - 1


class Cue(NamedTuple):
    """A cue point, in frames of its file; ``length`` is 0 for a place."""

    start: int
    length: int
    name: str
    note: str = ""


def read_cues(path: Path) -> list[Cue]:
    """Return the cue points of a WAV or RF64 file in order of time; an empty list where there are none.

    Raises
    ------
    FileError
        If the file cannot be read.
    """
    points: list[tuple[int, int]] = []
    names: dict[int, str] = {}
    notes: dict[int, str] = {}
    lengths: dict[int, int] = {}
    room = _MOST_BYTES
    try:
        with path.open("rb") as file:
            for chunk in riff_chunks(file):
                if chunk.name not in (CUE, LIST) or chunk.length > room:
                    continue
                room -= chunk.length
                file.seek(chunk.offset)
                body = file.read(chunk.length)
                if chunk.name == CUE:
                    points += _points(body)
                elif body[:4] == ASSOCIATED:
                    _read_associated(body, names, notes, lengths)
    except OSError as error:
        raise FileError(f"{path.name} cannot be read: {error.strerror}.") from error
    return sorted(
        Cue(start, lengths.get(number, 0), names.get(number, ""), notes.get(number, "")) for number, start in points
    )


def cue_chunks(cues: Sequence[Cue]) -> list[tuple[bytes, bytes]]:
    """Return the chunks for cue points, name and body; those past what 32 bits can count are left out."""
    kept = [cue for cue in cues if 0 <= cue.start <= _LAST_FRAME]
    if not kept:
        return []
    points = b"".join(_POINT.pack(number, cue.start, b"data", 0, 0, cue.start) for number, cue in enumerate(kept, 1))
    associated = [ASSOCIATED]
    for number, cue in enumerate(kept, 1):
        associated.append(_sub_chunk(b"labl", struct.pack("<I", number) + _text(cue.name)))
        if cue.note:
            associated.append(_sub_chunk(b"note", struct.pack("<I", number) + _text(cue.note)))
        if cue.length:
            length = min(cue.length, _LAST_FRAME)
            associated.append(_sub_chunk(b"ltxt", _LENGTH.pack(number, length, b"rgn ", 0, 0, 0, 0)))
    return [(CUE, struct.pack("<I", len(kept)) + points), (LIST, b"".join(associated))]


def is_of_cues(name: bytes, body: bytes) -> bool:
    """Return whether a chunk is one of those that hold cue points."""
    return name == CUE or (name == LIST and body[:4] == ASSOCIATED)


def _points(body: bytes) -> Iterable[tuple[int, int]]:
    count = struct.unpack("<I", body[:4])[0] if len(body) >= 4 else 0
    for number in range(min(count, (len(body) - 4) // _POINT.size)):
        identity, _, _, _, _, offset = _POINT.unpack_from(body, 4 + number * _POINT.size)
        yield identity, offset


def _read_associated(body: bytes, names: dict[int, str], notes: dict[int, str], lengths: dict[int, int]) -> None:
    position = 4
    while position + 8 <= len(body):
        name, length = struct.unpack_from("<4sI", body, position)
        part = body[position + 8 : position + 8 + length]
        position += 8 + length + (length & 1)
        if len(part) < 4:
            continue
        number = struct.unpack_from("<I", part)[0]
        if name == b"labl":
            names[number] = _words(part[4:])
        elif name == b"note":
            notes[number] = _words(part[4:])
        elif name == b"ltxt" and len(part) >= 8:
            lengths[number] = struct.unpack_from("<I", part, 4)[0]


def _sub_chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) & 1)


def _text(words: str) -> bytes:
    return words.encode("utf-8", "replace").replace(b"\0", b" ") + b"\0"


def _words(data: bytes) -> str:
    raw = data.split(b"\0", 1)[0]
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("cp1252", "replace")
