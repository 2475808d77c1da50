"""Which sound tracks a container holds, and whether a file is a container at all."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.container
import av.error

from umbrick.core.errors import FileError, ParameterError
from umbrick.core.sound.formats import FileFormat
from umbrick.core.units import format_count

_EBML, _BOX = b"\x1a\x45\xdf\xa3", b"ftyp"
_OLD_BOXES = (b"moov", b"mdat", b"wide", b"free", b"skip")
_DEMUXERS = {"MATROSKA": "matroska", "WEBM": "matroska", "MP4": "mov", "MOV": "mov"}
_WORD_BITS = {"s16": 16, "s16p": 16, "s32": 24, "s32p": 24, "u8": 8, "u8p": 8}
_PCM = {
    "pcm_u8": "PCM_U8",
    "pcm_s8": "PCM_S8",
    "pcm_s16": "PCM_16",
    "pcm_s24": "PCM_24",
    "pcm_s32": "PCM_32",
    "pcm_f32": "FLOAT",
    "pcm_f64": "DOUBLE",
    "pcm_mulaw": "ULAW",
    "pcm_alaw": "ALAW",
}
_SUBTYPES = {"opus": "OPUS", "vorbis": "VORBIS", "aac": "AAC", "mp3": "MPEG_LAYER_III", "mp3float": "MPEG_LAYER_III",
             "mp2": "MPEG_LAYER_II", "mp2float": "MPEG_LAYER_II", "ac3": "AC3", "eac3": "EAC3"}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Track:
    """A sound track of a container.

    ``number`` counts the sound tracks from 0, ``index`` all of its streams. ``starts_at`` is when its first sample is
    heard, in seconds of the container's clock; ``frames`` how many it has, where the container says so exactly.
    """

    number: int
    index: int
    format: FileFormat
    rate: int
    channels: int
    layout: str
    starts_at: Fraction
    frames: int | None
    bit_rate: int
    title: str
    language: str
    is_default: bool

    @property
    def name(self) -> str:
        """What a person picks it by."""
        told = [part for part in (self.title, self.language) if part]
        parts = [f"Track {self.number}", *told, self.format.name, format_count(self.channels, "channel")]
        return ", ".join(parts)


def container_of(path: Path) -> str | None:
    """Return ``MATROSKA``, ``WEBM``, ``MP4`` or ``MOV`` for a container, told by its first bytes, else None.

    Raises
    ------
    OSError
        If the file cannot be read.
    """
    with path.open("rb") as file:
        head = file.read(256)
    if head.startswith(_EBML):
        return "WEBM" if b"webm" in head[:64] else "MATROSKA"
    if head[4:8] == _BOX:
        return "MOV" if head[8:12] == b"qt  " else "MP4"
    return "MOV" if head[4:8] in _OLD_BOXES else None


@contextmanager
def opened(path: Path, container: str) -> Iterator[Any]:
    """Open a container for reading, with its own demuxer alone: no other format, playlist or address is followed.

    Raises
    ------
    FileError
        If it makes no sense.
    """
    try:
        with path.open("rb") as file, av.open(file, format=_DEMUXERS[container], metadata_errors="replace") as held:
            yield held
    except av.error.FFmpegError as error:
        raise FileError(
            f"{path.name} is damaged or cut off: {_reason(error)}.", "Without its index nothing of it can be read."
        ) from error


def tracks_of(path: Path, container: str) -> list[Track]:
    """Return the sound tracks of a container.

    Raises
    ------
    FileError
        If it cannot be read.
    """
    with opened(path, container) as held:
        return [_track(number, stream, container) for number, stream in enumerate(held.streams.audio)]


def chosen(tracks: list[Track], number: int | None, path: Path) -> Track:
    """Return the track of a number, or the one that is played if none is chosen.

    Raises
    ------
    FileError
        If there is no sound in the container.
    ParameterError
        If there is no such track.
    """
    if not tracks:
        raise FileError(f"{path.name} holds no sound: it has no sound track.")
    if number is None:
        return next((track for track in tracks if track.is_default), tracks[0])
    if not 0 <= number < len(tracks):
        have = "only track 0" if len(tracks) == 1 else f"tracks 0 to {len(tracks) - 1}"
        raise ParameterError(f"{path.name} has {have}, no track {number}.")
    return tracks[number]


def frames_of(packet: Any) -> list[Any]:
    """Return what can be decoded of a packet; what a damaged one held is missing, and is told by the time stamps."""
    try:
        return list(packet.decode())
    except (av.error.InvalidDataError, av.error.EOFError):
        return []


def _track(number: int, stream: Any, container: str) -> Track:
    context = stream.codec_context
    base = Fraction(stream.time_base)
    is_exact = container in ("MP4", "MOV") and stream.duration and base == Fraction(1, context.sample_rate or 1)
    return Track(
        number,
        stream.index,
        FileFormat(container, _subtype(context)),
        context.sample_rate,
        context.channels if hasattr(context, "channels") else context.layout.nb_channels,
        context.layout.name,
        Fraction(stream.start_time or 0) * base,
        int(stream.duration) if is_exact else None,
        context.bit_rate or 0,
        str(stream.metadata.get("title", "")),
        str(stream.language or ""),
        bool(stream.disposition & av.stream.Disposition.default),
    )


def _subtype(context: Any) -> str:
    name = str(context.name)
    for stem, subtype in _PCM.items():
        if name.startswith(stem):
            return subtype
    if name in ("flac", "alac"):
        return f"{name.upper()}_{_WORD_BITS.get(str(context.format.name), 24)}"
    return _SUBTYPES.get(name, name.upper())


def _reason(error: av.error.FFmpegError) -> str:
    return (error.strerror or str(error)).lower().rstrip(".")
