"""Carrying what a file says about its sound over to a copy: tags, pictures, and the usual WAV chunks."""

from __future__ import annotations

import math
import os
import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import mutagen
import mutagen.aiff
import mutagen.flac
import mutagen.mp3
import mutagen.oggopus
import mutagen.oggvorbis

from umbrick.core.sound.chunks import Chunk, riff_chunks
from umbrick.core.sound.coding_history import BEXT, with_line
from umbrick.core.sound.cues import Cue, cue_chunks, is_of_cues
from umbrick.core.units import format_count

_OF_THE_SOUND = {b"fmt ", b"data", b"fact", b"ds64", b"PEAK", b"JUNK", b"junk", b"FLLR", b"PAD ", b"levl", b"slnt"}
"""Chunks that describe the sample data itself, or are mere filling: the copy has its own."""

_MOST_BYTES = 64 * 2**20
"""Chunks are carried over until they come to this; no notes or pictures are so long, but a header can claim it."""

_LONGEST_RIFF = 2**32 - 1


class Alterations(NamedTuple):
    """What is to be different in the copy: its cue points (None leaves them), a line for the coding history, and by
    how many frames the copy begins later."""

    cues: Sequence[Cue] | None = None
    coding_line: str = ""
    later_by: int = 0


def carry_over(source: Path, target: Path, alterations: Alterations | None = None) -> str:
    """Copy tags and chunks from one finished file to another, as far as the target's container takes them.

    Parameters
    ----------
    source, target : Path
        The target's sound must be complete; it is changed in place (call this before it is published).
    alterations : Alterations, optional

    Returns
    -------
    str
        Empty, or one sentence that says what could not be carried over.

    Raises
    ------
    OSError
        If the target cannot be written.
    """
    with source.open("rb") as file:
        chunks = [chunk for chunk in riff_chunks(file) if chunk.name not in _OF_THE_SOUND]
    with target.open("rb") as file:
        target_chunks = riff_chunks(file)
    own = alterations or Alterations()
    if target_chunks:
        left_out = _append_chunks(source, target, chunks, own)
        if left_out:
            return f"{format_count(left_out, 'chunk')} of {source.name} had no room and did not come along."
        if chunks:
            return ""
        return "" if not _tags_of(source) else f"The tags of {source.name} have no place in a WAV file."
    if chunks and target.suffix:
        return f"The WAV chunks of {source.name} have no place in {target.suffix[1:].upper()}."
    return _copy_tags(source, target)


def _bodies(source: Path, chunks: Sequence[Chunk], own: Alterations) -> Iterator[tuple[bytes, bytes] | None]:
    """Yield the chunks of the copy, name and body; None for each that is too long or not all there."""
    room = _MOST_BYTES
    with source.open("rb") as origin:
        for chunk in chunks:
            if chunk.length > room:
                yield None
                continue
            origin.seek(chunk.offset)
            body = origin.read(chunk.length)
            if len(body) < chunk.length:
                yield None
                continue
            if own.cues is not None and is_of_cues(chunk.name, body):
                continue
            room -= len(body)
            if chunk.name == BEXT and own.coding_line:
                body = with_line(body, own.coding_line, own.later_by)
            yield chunk.name, body
    if own.cues is not None:
        yield from cue_chunks(own.cues)


def _append_chunks(source: Path, target: Path, chunks: Sequence[Chunk], alterations: Alterations) -> int:
    """Write the source's chunks to the end of the target, one at a time; return how many had to be left out."""
    left_out = written = 0
    with target.open("r+b") as copy:
        own = riff_chunks(copy)
        copy.seek(0)
        longest = _LONGEST_RIFF if copy.read(4) == b"RIFF" else math.inf
        end = copy.seek(0, os.SEEK_END)
        for made in _bodies(source, chunks, alterations):
            if made is None or end + len(made[1]) + 10 > longest:
                left_out += 1
                continue
            if not written and end % 2 and sum(chunk.length for chunk in own if chunk.name == b"data") % 2:
                copy.write(b"\0")
            name, body = made
            copy.write(name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) & 1))
            end = copy.tell()
            written += 1
        if not written:
            return left_out
        size = copy.tell() - 8
        copy.seek(0)
        if copy.read(4) == b"RIFF":
            copy.seek(4)
            copy.write(struct.pack("<I", size))
            return left_out
        for chunk in own:
            if chunk.name == b"ds64":
                copy.seek(chunk.offset)
                copy.write(struct.pack("<Q", size))
    return left_out


def _tags_of(path: Path) -> Any:
    try:
        file: Any = mutagen.File(path)
    except mutagen.MutagenError:
        return None
    has_pictures = bool(getattr(file, "pictures", None))
    return file if file is not None and (file.tags or has_pictures) else None


def _copy_tags(source: Path, target: Path) -> str:
    tagged = _tags_of(source)
    if tagged is None:
        return ""
    refusal = f"The tags of {source.name} could not be carried over to {target.suffix[1:].upper()}."
    try:
        copy: Any = mutagen.File(target)
        if copy is None:
            return refusal
        if copy.tags is None:
            copy.add_tags()
        if isinstance(tagged, _VORBIS_COMMENTED) and isinstance(copy, _VORBIS_COMMENTED):
            _copy_vorbis_comments(tagged, copy)
        elif isinstance(tagged, _ID3_TAGGED) and isinstance(copy, _ID3_TAGGED):
            own_tags: Any = copy.tags
            given_tags: Any = tagged.tags
            for frame in given_tags.values():
                own_tags.add(frame)
        else:
            return refusal
        copy.save()
    except mutagen.MutagenError as error:
        if isinstance(error.__cause__ or error.__context__, OSError):
            raise OSError(str(error)) from error
        return refusal
    return ""


_VORBIS_COMMENTED = (mutagen.flac.FLAC, mutagen.oggvorbis.OggVorbis, mutagen.oggopus.OggOpus)
_ID3_TAGGED = (mutagen.mp3.MP3, mutagen.aiff.AIFF)
_OWN_COMMENTS = {"encoder", "r128_track_gain", "r128_album_gain"}


def _copy_vorbis_comments(tagged: Any, copy: Any) -> None:
    for name, value in tagged.tags or []:
        if name.lower() not in _OWN_COMMENTS:
            copy.tags.append((name, value))
    if isinstance(tagged, mutagen.flac.FLAC) and isinstance(copy, mutagen.flac.FLAC):
        for picture in tagged.pictures:
            copy.add_picture(picture)  # type: ignore[no-untyped-call]
