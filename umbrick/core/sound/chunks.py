"""The chunk structure of WAV, RF64, AIFF, W64 and CAF files: what is inside, and whether the sound is all there."""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import BinaryIO

_UNKNOWN_SIZES = (0, 0xFFFFFFFF)
_MOST_CHUNKS = 4096
"""Chunks that are looked at: real files have a few dozen, and a million empty ones would take a minute."""

_W64_RIFF = b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb\x04\xc1\x00\x00"


@dataclass(frozen=True, slots=True)
class Chunk:
    """One chunk: its four-character name, where its body begins, and the body's declared length in bytes."""

    name: bytes
    offset: int
    length: int


def riff_chunks(file: BinaryIO) -> list[Chunk]:
    """Return the chunks of a WAV or RF64 file in order; an empty list for any other file."""
    file.seek(0)
    head = file.read(12)
    if len(head) < 12 or head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:12] != b"WAVE":
        return []
    return _first(_walk(file, 12, "<4sI", padded=True))


def missing_bytes(path: Path) -> tuple[int, int]:
    """Return how many bytes of sound the file's header promises, and how many of them are absent.

    ``(0, 0)`` for formats without such a promise.
    """
    size = os.path.getsize(path)
    with path.open("rb") as file:
        chunk = _sound_chunk(file)
    if chunk is None:
        return 0, 0
    return chunk.length, max(0, chunk.offset + chunk.length - size)


def _sound_chunk(file: BinaryIO) -> Chunk | None:
    magic = file.read(16)
    if magic[:4] in (b"RIFF", b"RF64", b"BW64"):
        chunks, name = riff_chunks(file), b"data"
    elif magic[:4] == b"FORM":
        chunks, name = _first(_walk(file, 12, ">4sI", padded=True)), b"SSND"
    elif magic[:4] == b"caff":
        chunks, name = _first(_walk(file, 8, ">4sq")), b"data"
    elif magic == _W64_RIFF:
        chunks, name = _first(_walk_w64(file)), b"data"
    else:
        return None
    for chunk in chunks:
        if chunk.name == name and chunk.length not in _UNKNOWN_SIZES and chunk.length > 0:
            return chunk
    return None


def _first(chunks: Iterator[Chunk]) -> list[Chunk]:
    return list(islice(chunks, _MOST_CHUNKS))


def _walk(file: BinaryIO, start: int, header: str, padded: bool = False) -> Iterator[Chunk]:
    size = struct.calcsize(header)
    position = start
    long_data_length = 0
    end = file.seek(0, os.SEEK_END)
    while position < end:
        file.seek(position)
        head = file.read(size)
        if len(head) < size:
            return
        name, length = struct.unpack(header, head)
        if name == b"ds64":
            # RF64 keeps the lengths that do not fit 32 bits here: of the file, then of its sound.
            body = file.read(16)
            long_data_length = struct.unpack("<QQ", body)[1] if len(body) == 16 else 0
        if name == b"data" and length == 0xFFFFFFFF:
            length = long_data_length or length
        yield Chunk(name, position + size, length)
        if length < 0 or (name == b"data" and length in _UNKNOWN_SIZES):
            return
        position += size + length + (length & 1 if padded else 0)


def _walk_w64(file: BinaryIO) -> Iterator[Chunk]:
    position = 40
    end = file.seek(0, os.SEEK_END)
    while position < end:
        file.seek(position)
        head = file.read(24)
        if len(head) < 24:
            return
        # A W64 chunk's length counts its own 24-byte head, and chunks begin at multiples of eight.
        length = int(struct.unpack("<q", head[16:24])[0])
        if length < 24:
            return
        yield Chunk(head[:4], position + 24, length - 24)
        position += (length + 7) & ~7
