"""The span a strip shows, and how it scrolls and zooms."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TypeVar

import numpy as np
import numpy.typing as npt

Number = TypeVar("Number", float, npt.NDArray[np.float64])


@dataclass(frozen=True, slots=True)
class Window:
    """A half-open span of frames shown across a strip; it may be fractional, so that zooming is smooth."""

    start: float
    stop: float

    @property
    def length(self) -> float:
        """Frames shown."""
        return self.stop - self.start

    def x_of(self, frame: Number, width: float) -> Number:
        """Return where the frame's beginning is across ``width`` pixels; for an array of frames, an array."""
        return (frame - self.start) * width / self.length

    def frame_at(self, x: float, width: float) -> float:
        """Return the frame at a pixel: the inverse of :meth:`x_of`."""
        return self.start + x * self.length / width

    def zoomed(self, factor: float, anchor: float, shortest: float, total: int) -> Window:
        """Return the window ``factor`` times as long, with frame ``anchor`` staying where it is.

        The result is from ``shortest`` frames to the whole recording (``total`` frames) long, and within it.
        """
        length = min(max(self.length * factor, min(shortest, total)), max(total, 1))
        share = (anchor - self.start) / self.length
        return Window(anchor - share * length, anchor + (1 - share) * length).within(total)

    def scrolled(self, frames: float, total: int) -> Window:
        """Return the window moved by ``frames``, stopping at the recording's ends."""
        return Window(self.start + frames, self.stop + frames).within(total)

    def centred(self, frame: float, total: int) -> Window:
        """Return the window moved so that ``frame`` is in its middle, as far as the ends allow."""
        return self.scrolled(frame - (self.start + self.stop) / 2, total)

    def showing(self, start: float, stop: float, total: int, margin: float = 0.1) -> Window:
        """Return this window if it shows the span with a margin, else one moved or widened until it does."""
        room = self.length * margin
        if self.start + room <= start and stop <= self.stop - room:
            return self
        length = max(self.length, (stop - start) / (1 - 2 * margin))
        middle = (start + stop) / 2
        return Window(middle - length / 2, middle + length / 2).within(total)

    def frames_in(self, total: int, beside: int = 0) -> tuple[int, int]:
        """Return the first frame and that after the last which a recording of ``total`` frames has in it, and some
        beside it; none where it lies beyond the end."""
        first = min(max(0, int(self.start) - beside), total)
        return first, min(max(first, math.ceil(self.stop) + beside), total)

    def within(self, total: int) -> Window:
        """Return the window moved (never zoomed, unless it is longer than the whole) to lie in the recording."""
        length = min(self.length, max(total, 1))
        start = min(max(self.start, 0.0), max(total, 1) - length)
        return Window(start, start + length)
