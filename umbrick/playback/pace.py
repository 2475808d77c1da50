"""Half and quarter speed, with the pitch falling as that of a slow tape does, or kept."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Any, Protocol

import numpy as np
import soxr

from umbrick.playback.output import Block


@dataclass(frozen=True, slots=True)
class Pace:
    """How fast sound is played: ``speed`` is 1, 1/2 or 1/4."""

    speed: float = 1.0
    keeps_pitch: bool = False


class Pacer(Protocol):
    """Takes sound as it would be played, and gives it slower: a little later, and more of it."""

    def feed(self, block: Block) -> Block:
        """Return what can be played after the next block; it may be empty."""
        ...


def pacer_for(pace: Pace, rate: int, channels: int) -> Pacer | None:
    """Return what makes sound slower, or None at full speed, where nothing is touched."""
    if pace.speed == 1.0:
        return None
    return _Stretched(pace.speed, rate, channels) if pace.keeps_pitch else _Slowed(pace.speed, rate, channels)


class _Slowed:
    """The pitch falls: the sound is resampled to a higher rate and played at the old one."""

    def __init__(self, speed: float, rate: int, channels: int) -> None:
        self._stream = soxr.ResampleStream(rate * speed, rate, channels, dtype="float32")

    def feed(self, block: Block) -> Block:
        return np.asarray(self._stream.resample_chunk(block)).reshape(-1, block.shape[1])


class _Stretched:
    """The pitch is kept: FFmpeg's ``atempo``, which overlaps and adds similar waveforms."""

    def __init__(self, speed: float, rate: int, channels: int) -> None:
        from av.filter import Graph

        self._rate, self._layout = rate, f"{channels}c"
        self._fed = 0
        graph = Graph()
        self._entry = graph.add_abuffer(
            sample_rate=rate, format="flt", layout=self._layout, time_base=Fraction(1, rate)
        )
        last: Any = self._entry
        while speed < 1.0:
            halving = graph.add("atempo", "0.5")
            last.link_to(halving)
            last, speed = halving, 2 * speed
        self._exit = graph.add("abuffersink")
        last.link_to(self._exit)
        graph.configure()
        self._graph = graph

    def feed(self, block: Block) -> Block:
        from av import AudioFrame
        from av.error import BlockingIOError, EOFError

        frame = AudioFrame.from_ndarray(np.ascontiguousarray(block).reshape(1, -1), format="flt", layout=self._layout)
        frame.sample_rate, frame.pts = self._rate, self._fed
        self._fed += len(block)
        self._entry.push(frame)
        parts = []
        while True:
            try:
                pulled: Any = self._exit.pull()
                parts.append(pulled.to_ndarray().reshape(-1, block.shape[1]))
            except (BlockingIOError, EOFError):
                return np.concatenate(parts) if parts else block[:0]
