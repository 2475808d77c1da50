"""The pictures of a video, one at a time."""

from __future__ import annotations

from contextlib import ExitStack
from fractions import Fraction
from pathlib import Path
from typing import Any, NamedTuple

import av.error
import numpy as np
import numpy.typing as npt

from umbrick.core.errors import FileError
from umbrick.core.sound.containers.tracks import opened

_NEAR_SECONDS = 2.0
"""So far ahead it is quicker to decode on than to look for a key picture."""

_WIDEST = 960


class Shown(NamedTuple):
    """A picture, shape ``(height, width, 3)`` in red, green and blue; when it comes and goes, in seconds."""

    pixels: npt.NDArray[np.uint8]
    begins: float
    ends: float


class Pictures:
    """An open video. Not for several threads at once.

    Raises
    ------
    FileError
        If it cannot be read, or holds no moving picture.
    """

    def __init__(self, path: Path, container: str) -> None:
        self._open = ExitStack()
        self._held = self._open.enter_context(opened(path, container))
        attached = av.stream.Disposition.attached_pic
        streams = [stream for stream in self._held.streams.video if not stream.disposition & attached]
        if not streams:
            self.close()
            raise FileError(f"{path.name} has no picture.")
        self._stream = streams[0]
        self._stream.thread_type = "AUTO"
        self._base = Fraction(self._stream.time_base)
        self.rate = Fraction(self._stream.average_rate or self._stream.guessed_rate or 25)
        """Pictures a second, on average."""
        self._coming: Any = None
        self._now: Any = None
        self._next: Any = None

    def close(self) -> None:
        """Let go of the file."""
        self._open.close()

    def at(self, seconds: float) -> Shown | None:
        """Return the picture that is shown at a time of the container's clock; None before the first one."""
        try:
            return self._at(seconds)
        except av.error.FFmpegError:
            # Damage: what can be decoded is shown, and the next look begins anew.
            self._coming = None
            return self._shown() if self._now is not None else None

    def _at(self, seconds: float) -> Shown | None:
        begins = self._time(self._now) if self._now is not None else None
        if self._coming is None or begins is None or not begins <= seconds <= begins + _NEAR_SECONDS:
            self._held.seek(max(0, int(seconds / self._base)), stream=self._stream, backward=True)
            self._coming = iter(self._held.decode(self._stream))
            self._now, self._next = next(self._coming, None), None
        if self._now is None:
            return None
        while True:
            if self._next is None:
                self._next = next(self._coming, None)
            if self._next is None or self._time(self._next) > seconds:
                return self._shown() if self._time(self._now) <= seconds + 1e-6 else None
            self._now, self._next = self._next, None

    def _shown(self) -> Shown:
        frame = self._now
        begins = self._time(frame)
        ends = self._time(self._next) if self._next is not None else begins + float(1 / self.rate)
        scale = min(1.0, _WIDEST / frame.width)
        size = {"width": max(2, round(frame.width * scale)), "height": max(2, round(frame.height * scale))}
        pixels = frame.reformat(format="rgb24", **size).to_ndarray()
        turned = np.rot90(pixels, round(getattr(frame, "rotation", 0) / 90) % 4)
        return Shown(np.ascontiguousarray(turned), begins, ends)

    def _time(self, frame: Any) -> float:
        return float((frame.pts or 0) * self._base)
