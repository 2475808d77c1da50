"""How many frames a sound track has where its container does not say: by its packets, without decoding them all.

Most codecs put as many frames into every packet, but for the first ones, of which the encoder's lead-in is left out,
and the last. Those are decoded; the others are counted, and the time stamps must agree.
"""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import av.error

from umbrick.core.sound.containers.tracks import Track, frames_of, opened

_HEAD, _TAIL = 8, 4
_FEWEST = 24
"""A shorter track is decoded as quickly."""

_TAIL_SECONDS = 1.5
_STAMP_SECONDS = 0.002
"""Time stamps may be whole milliseconds, of the first packet and of the last."""

_SLACK = 0.25
"""Of a packet; what is off by more is a gap, or packets that are not all alike."""


def counted_frames(path: Path, track: Track) -> int | None:
    """Return how many frames decoding a whole track gives, or None if only decoding it tells.

    Raises
    ------
    FileError
        If the container cannot be read.
    """
    with opened(path, track.format.container) as held:
        stream = held.streams[track.index]
        stamps = [packet.pts for packet in held.demux(stream) if packet.size]
        base = Fraction(stream.time_base)
    if len(stamps) < _FEWEST or None in stamps:
        return None
    head = _decoded(path, track, None)
    tail = _decoded(path, track, stamps[-1] - round(_TAIL_SECONDS / base))
    usual = head[-1]
    if len(tail) <= 2 * _TAIL or not usual or any(count != usual for count in (*head[2:], *tail[_TAIL:-_TAIL])):
        return None
    lasted = round((stamps[-1] - stamps[0]) * base * track.rate)
    off = abs(lasted - usual * (len(stamps) - 1)) - _STAMP_SECONDS * track.rate
    if off > _SLACK * usual:
        return None
    return usual * (len(stamps) - _HEAD - _TAIL) + sum(head) + sum(tail[-_TAIL:])


def _decoded(path: Path, track: Track, since: int | None) -> list[int]:
    """Return how many frames each packet gives: of the first ones, or of those from about a time stamp to the end.

    What a decoder holds back until the end counts with the last packet.
    """
    counts: list[int] = []
    with opened(path, track.format.container) as held:
        stream: Any = held.streams[track.index]
        if since is not None:
            try:
                held.seek(max(0, since), stream=stream)
            except av.error.FFmpegError:  # a container without an index can be read from its beginning alone
                return []
        for packet in held.demux(stream):
            came = sum(frame.samples for frame in frames_of(packet))
            if packet.size:
                counts.append(came)
            elif counts:
                counts[-1] += came
            if since is None and len(counts) == _HEAD:
                break
    return counts
