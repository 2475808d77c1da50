"""An output without a device: keeps time, and can keep or write down what it played."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import soundfile

from umbrick.playback.output import BUFFER_FRAMES, SIMULATED, Block


class SimulatedOutput:
    """Stands in for a sound device.

    Parameters
    ----------
    keeps_time : bool
        Whether :meth:`write` takes as long as the sound lasts; without, it returns at once (for stepping by hand).
    keeps_sound : bool
        Whether everything played can be had from :meth:`played`.
    record_to : Path, optional
        A WAV file (32 bit float) that gets everything played.
    buffer_frames : int
        How much may be waiting to be played, as in a device.
    """

    name = SIMULATED

    def __init__(
        self,
        keeps_time: bool = True,
        keeps_sound: bool = False,
        record_to: Path | None = None,
        buffer_frames: int = BUFFER_FRAMES,
    ) -> None:
        self.underruns = 0
        """How often there was nothing left to play before more was written."""
        self._buffer_frames = buffer_frames
        self._keeps_time = keeps_time
        self._keeps_sound = keeps_sound
        self._record_to = record_to
        self._file: soundfile.SoundFile | None = None
        self._blocks: list[Block] = []
        self._rate = 48000
        self._channels = 1
        self._due = 0.0

    def open(self, rate: int, channels: int) -> None:
        """Get ready; a recording is begun anew if the form changes."""
        if self._record_to and (self._file is None or (rate, channels) != (self._rate, self._channels)):
            if self._file:
                self._file.close()
            self._file = soundfile.SoundFile(self._record_to, "w", rate, channels, "FLOAT", format="WAV")
        self._rate, self._channels = rate, channels

    def write(self, block: Block) -> None:
        """Take a block, and wait until there is room for more."""
        if self._keeps_sound:
            self._blocks.append(block.copy())
        if self._file:
            self._file.write(block)
        if self._keeps_time:
            now = time.monotonic()
            if 0 < self._due < now:
                self.underruns += 1
            self._due = max(self._due, now) + len(block) / self._rate
            if (waits := self._due - now - self._buffer_frames / self._rate) > 0:
                time.sleep(waits)

    def latency_frames(self) -> int:
        """Return the frames that are not over yet."""
        return round(max(0.0, self._due - time.monotonic()) * self._rate) if self._keeps_time else 0

    def drain_to(self, frames: int) -> None:
        """Wait until so little is waiting to be played."""
        if self._keeps_time and (waits := self._due - time.monotonic() - frames / self._rate) > 0:
            time.sleep(waits)

    def flush(self) -> None:
        """What is waiting is played; nothing needs to follow in time."""
        self._due = 0.0

    def close(self) -> None:
        """End the recording."""
        if self._file:
            self._file.close()
            self._file = None

    def played(self) -> Block:
        """Return everything played so far."""
        return np.concatenate(self._blocks) if self._blocks else np.zeros((0, self._channels), np.float32)
