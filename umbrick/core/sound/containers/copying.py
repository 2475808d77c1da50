"""Copying a container with one sound track replaced: every other packet stays as it is, with its time stamps."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.error

from umbrick.core.errors import FileError
from umbrick.core.sound.containers.packets import EncodedTrack, TrackPackets, VorbisTrack
from umbrick.core.sound.containers.tracks import Track, container_of, opened
from umbrick.core.sound.encoder import Block
from umbrick.core.sound.formats import FileFormat

_MUXERS = {"MATROSKA": "matroska", "WEBM": "webm", "MP4": "mp4", "MOV": "mov"}
_MADE_BY_THE_MUXER = {"major_brand", "minor_version", "compatible_brands", "encoder", "ENCODER"}
_LAYOUTS = {1: "mono", 2: "stereo", 3: "2.1", 4: "4.0", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}
_DEFAULT = av.stream.Disposition.default


class ContainerEncoder:
    """Writes sound into a container, beside everything that another one holds.

    Parameters
    ----------
    path : Path
        The file to write, which exists and is empty.
    form : FileFormat
    rate, channels : int
    origin : Path, optional
        The container whose other streams, chapters, attachments and tags come along.
    track : Track, optional
        Its track that is replaced; the new one stands in its place, begins when it did, and keeps its tags.

    Raises
    ------
    FileError
        If the origin cannot be read, or holds what such a container cannot.
    ParameterError
        If the codec cannot hold such sound.
    """

    def __init__(
        self, path: Path, form: FileFormat, rate: int, channels: int, origin: Path | None, track: Track | None
    ) -> None:
        self._form = form
        self._open = ExitStack()
        self._origin = origin
        self._name = path.name if origin is None else origin.name
        try:
            # Times of the container count samples, so that a track that begins later does so at its very sample.
            options = {"movie_timescale": str(rate)} if form.container in ("MP4", "MOV") else {}
            file = self._open.enter_context(path.open("r+b"))
            self._output = self._open.enter_context(
                av.open(file, "w", format=_MUXERS[form.container], container_options=options)
            )
            self._input: Any = None
            if origin is not None and track is not None and (container := container_of(origin)) is not None:
                self._input = self._open.enter_context(opened(origin, container))
            self._streams: dict[int, Any] = {}
            layout = track.layout if track is not None else _LAYOUTS.get(channels, f"{channels} channels")
            if track is not None and track.channels != channels:
                layout = _LAYOUTS.get(channels, f"{channels} channels")
            self._sound = self._add_all(track, rate, layout, channels)
            self._shift: int | None = None
            self._starts_at = track.starts_at if track is not None and self._input is not None else Fraction(0)
            self._rate = rate
            self._rest = self._others(track)
            self._next: Any = next(self._rest, None)
        except BaseException:
            self.close()
            raise

    def write(self, block: Block) -> None:
        """Take the next frames."""
        with self._explaining():
            self._mux(self._sound.encoded(block))

    def finish(self) -> None:
        """Write the rest of the sound and of everything else."""
        with self._explaining():
            self._mux(self._sound.flushed())
            self._copy_until(None)
            self._output.close()

    def close(self) -> None:
        """Let go of the files."""
        sound = getattr(self, "_sound", None)
        if sound is not None:
            sound.close()
        self._open.close()

    @contextmanager
    def _explaining(self) -> Iterator[None]:
        try:
            yield
        except av.error.FFmpegError as error:
            if isinstance(error, OSError):
                raise
            raise FileError(f"{self._name} cannot be written: {error}.", "Nothing was changed.") from error

    def _add_all(self, track: Track | None, rate: int, layout: str, channels: int) -> TrackPackets:
        if self._input is None:
            return self._add_sound(rate, layout, channels, 0)
        sound: Any = None
        tags = {key: value for key, value in self._input.metadata.items() if key not in _MADE_BY_THE_MUXER}
        self._output.metadata.update(tags)
        for stream in self._input.streams:
            if track is not None and stream.index == track.index:
                sound = self._add_sound(rate, layout, channels, track.bit_rate or _bit_rate(self._input, stream))
                made = sound.stream
            elif stream.type == "attachment" or stream.disposition & av.stream.Disposition.attached_pic:
                self._attach(stream)
                continue
            else:
                made = self._add_copy(stream)
            made.metadata.update({k: v for k, v in stream.metadata.items() if k not in _MADE_BY_THE_MUXER})
            made.disposition = stream.disposition
            self._streams[stream.index] = made
        if chapters := self._input.chapters():
            self._output.set_chapters(chapters)
        return sound

    def _add_sound(self, rate: int, layout: str, channels: int, bit_rate: int) -> TrackPackets:
        if self._form.subtype == "VORBIS":
            return VorbisTrack(self._output, rate, channels)
        return EncodedTrack(self._output, self._form, rate, layout, bit_rate)

    def _add_copy(self, stream: Any) -> Any:
        try:
            made = self._output.add_stream_from_template(stream, opaque=True)
        except (ValueError, av.error.FFmpegError) as error:
            raise FileError(
                f"{self._name} holds a {stream.type} stream ({_codec_of(stream)}) that such a file cannot take.",
                "Save it under the ending it has now, or save just the sound as .flac or .wav.",
            ) from error
        made.time_base = stream.time_base
        if self._form.container in ("MP4", "MOV") and stream.type == "video":
            made.codec_context.codec_tag = stream.codec_context.codec_tag
        return made

    def _attach(self, stream: Any) -> None:
        """Keep an attached file or cover picture where such a container has room for one."""
        if self._form.container != "MATROSKA":
            if stream.type == "attachment":
                raise FileError(
                    f"{self._name} holds attached files, which such a file cannot take.", "Save it as .mkv."
                )
            self._streams[stream.index] = self._add_copy(stream)
            self._streams[stream.index].disposition = stream.disposition
            return
        data = stream.data if stream.type == "attachment" else _picture_of(self._origin, stream.index)
        name = stream.metadata.get("filename", "attachment")
        made = self._output.add_attachment(
            name, stream.metadata.get("mimetype") or "application/octet-stream", bytes(data)
        )
        made.metadata.update(stream.metadata)

    def _others(self, track: Track | None) -> Iterator[Any]:
        """Yield the packets of every other stream, in the order of the file."""
        if self._input is None:
            return
        wanted = [self._input.streams[index] for index in self._streams if track is None or index != track.index]
        if not wanted:
            return
        for packet in self._input.demux(*wanted):
            if not packet.size:
                continue
            if packet.is_discard and (packet.pts or 0) > 0:
                raise FileError(
                    f"{self._name} has an edit list that leaves out pictures in the middle, which a copy would lose.",
                    "Nothing was written. Save the sound alone as .flac or .wav.",
                )
            yield packet

    def _mux(self, packets: Iterator[Any]) -> None:
        for packet in packets:
            base = Fraction(packet.time_base)
            if self._shift is None:
                self._shift = self._first_shift(packet, base)
            packet.pts = packet.pts + self._shift
            packet.dts = (packet.dts if packet.dts is not None else packet.pts - self._shift) + self._shift
            self._copy_until(packet.pts * base)
            self._output.mux(packet)

    def _first_shift(self, packet: Any, base: Fraction) -> int:
        """Return by how much all time stamps are moved, so that the first sample is heard when the old one was.

        In containers that count milliseconds, what the encoder puts before the sound is rounded for itself on reading:
        the first packet must lie on a whole one.
        """
        if self._form.container not in ("MATROSKA", "WEBM"):
            return round(self._starts_at / base)
        before = _rounded(-packet.pts * base * 1000) if packet.pts < 0 else 0
        first = _rounded(self._starts_at * 1000) - before
        return round(Fraction(first, 1000) / base) - packet.pts

    def _copy_until(self, time: Fraction | None) -> None:
        while self._next is not None:
            packet = self._next
            at = packet.dts if packet.dts is not None else packet.pts
            if time is not None and at is not None and at * Fraction(packet.time_base) > time:
                return
            packet.stream = self._streams[packet.stream.index]
            self._output.mux(packet)
            self._next = next(self._rest, None)


def _rounded(value: Fraction) -> int:
    return int(value + Fraction(1, 2)) if value >= 0 else -int(-value + Fraction(1, 2))


def _bit_rate(held: Any, stream: Any) -> int:
    """Return how many bits a second a track has, counted in its packets; lossy tracks of Matroska do not say."""
    if stream.codec_context.name in ("flac", "alac") or stream.codec_context.name.startswith("pcm"):
        return 0
    total, last = 0, Fraction(0)
    for packet in held.demux(stream):
        if packet.size and packet.pts is not None:
            total += packet.size
            last = max(last, (packet.pts + (packet.duration or 0)) * Fraction(packet.time_base))
    held.seek(0)
    return round(8 * total / last) if last else 0


def _picture_of(path: Path | None, index: int) -> bytes:
    assert path is not None
    with opened(path, str(container_of(path))) as held:
        for packet in held.demux(held.streams[index]):
            if packet.size:
                return bytes(packet)
    return b""


def _codec_of(stream: Any) -> str:
    return stream.codec_context.name if stream.codec_context is not None else "data"
