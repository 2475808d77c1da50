"""Decoding one sound track of a container."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from fractions import Fraction
from pathlib import Path
from typing import Any

import av.error
import numpy as np

from umbrick.core.errors import FileError
from umbrick.core.sound.containers.counting import counted_frames
from umbrick.core.sound.containers.tracks import Track, frames_of, opened
from umbrick.core.sound.decoder import Decoded

_BLOCK_FRAMES = 65536
_JUMP_SECONDS = 0.02
"""Time stamps of some containers are whole milliseconds: what is off by less than this is rounding, not a gap."""

_LONGEST_GAP_SECONDS = 3600.0
"""A longer gap than this is a damaged time stamp."""

_SHORT_BY_SECONDS = 1.0
_END_SECONDS = 1
"""So much before its end a track is decoded, to see that it goes so far."""


class TrackDecoder:
    """Decodes a sound track from its first audible sample on.

    What the encoder put before the sound and after it is left out, as the container says. Packets that cannot be
    decoded and gaps between time stamps are silence, so that everything stays in sync.

    Raises
    ------
    FileError
        If the container cannot be read.
    """

    def __init__(self, path: Path, track: Track) -> None:
        self.path = path
        self.rate, self.channels = track.rate, track.channels
        self.is_double = track.format.subtype in ("PCM_32", "DOUBLE")
        self._track = track
        self._open = ExitStack()
        self._held = self._open.enter_context(opened(path, track.format.container))
        self.stated = self._length = track.frames

    def promised(self) -> int | None:
        """Return the length that the container gives, if there is sound up to there; or that its packets tell."""
        if self.stated and not self._reaches(self.stated):
            self.stated = None
        elif not self.stated:
            self.stated = self._length = counted_frames(self.path, self._track)
        return self.stated

    def blocks(self) -> Iterator[Decoded]:
        """Yield the frames in blocks."""
        waiting: list[Decoded] = []
        count = 0
        for part in self._trimmed():
            waiting.append(part)
            count += len(part)
            if count >= _BLOCK_FRAMES:
                yield np.concatenate(waiting)
                waiting, count = [], 0
        if waiting:
            yield np.concatenate(waiting)

    def close(self) -> None:
        """Let go of the file."""
        self._open.close()

    def _reaches(self, frames: int) -> bool:
        """Whether the last of so many frames is there, by the time stamps of what is decoded at both ends."""
        with opened(self.path, self._track.format.container) as held:
            stream = held.streams[self._track.index]
            first = next(_frames(held, stream), None)
            if first is None or first.pts is None:
                return False
            begins, ends = first.pts * Fraction(first.time_base), Fraction(0)
            last = begins + Fraction(frames, self.rate) - _END_SECONDS
            try:
                held.seek(max(0, round(last / Fraction(stream.time_base))), stream=stream)
                for frame in _frames(held, stream):
                    if frame.pts is not None:
                        end = frame.pts * Fraction(frame.time_base) + Fraction(frame.samples, self.rate)
                        ends = max(ends, end)
            except av.error.FFmpegError:
                return False
        return round((ends - begins) * self.rate) >= frames

    def _trimmed(self) -> Iterator[Decoded]:
        """Yield the frames up to the length that the container gives, or its packets tell, if they do."""
        left = self._length
        for part in self._in_sync():
            if left is None:
                yield part
                continue
            yield part[:left]
            left -= len(part)
            if left <= 0:
                return

    def _in_sync(self) -> Iterator[Decoded]:
        stream = self._held.streams[self._track.index]
        begins: Fraction | None = None
        came = 0
        for frame in _frames(self._held, stream):
            samples = as_samples(frame, self.is_double)
            if samples.shape[1] != self.channels or frame.sample_rate != self.rate:
                raise FileError(
                    f"{self.path.name} changes its rate or channels in the middle of a track.",
                    "Convert it to one form first; the file was not touched.",
                )
            if frame.pts is not None:
                at = frame.pts * Fraction(frame.time_base)
                begins = at if begins is None else begins
                gap = round((at - begins) * self.rate) - came
                if _JUMP_SECONDS * self.rate < gap < _LONGEST_GAP_SECONDS * self.rate:
                    yield np.zeros((gap, self.channels), samples.dtype)
                    came += gap
            came += len(samples)
            yield samples


def _frames(held: Any, stream: Any) -> Iterator[Any]:
    """Yield what can be decoded of a stream from where its container stands."""
    for packet in held.demux(stream):
        yield from frames_of(packet)


def is_cut_off(path: Path, track: Track) -> str:
    """Return how long a container is and was to be, in words, if its end is missing; else nothing."""
    with opened(path, track.format.container) as held:
        if not held.duration or track.format.container not in ("MATROSKA", "WEBM"):
            return ""
        whole = held.duration / 1e6
        last = 0.0
        try:
            held.seek(max(0, round((whole - _SHORT_BY_SECONDS) * 1e6)))
            for packet in held.demux():
                if packet.pts is not None:
                    last = max(last, float((packet.pts + (packet.duration or 0)) * packet.time_base))
        except av.error.FFmpegError:
            pass
    return f"{last:.0f} s of {whole:.0f} s" if 0 < last < whole - _SHORT_BY_SECONDS else ""


def as_samples(frame: Any, is_double: bool) -> Decoded:
    """Return a decoded frame of sound as floats of shape ``(frames, channels)``."""
    kind = np.float64 if is_double else np.float32
    held = frame.to_ndarray()
    if held.dtype.kind in "iu":
        bits = 8 * held.dtype.itemsize
        offset = 1 << (bits - 1) if held.dtype.kind == "u" else 0
        values = (held.astype(np.float64) - offset) / float(1 << (bits - 1))
    else:
        values = held
    if frame.format.is_planar:
        return np.ascontiguousarray(values.T, dtype=kind)
    return np.ascontiguousarray(values.reshape(-1, frame.layout.nb_channels), dtype=kind)
