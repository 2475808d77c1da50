"""What the engine plays into: one small interface, and choosing what is there."""

from __future__ import annotations

from typing import Protocol

import numpy as np
import numpy.typing as npt

Block = npt.NDArray[np.float32]
"""Sound to be played: shape ``(frames, channels)``."""


class OutputError(Exception):
    """The output cannot be opened, or has gone away; the message says which and why."""


class Output(Protocol):
    """Takes sound and keeps time: :meth:`write` returns when there is room for more."""

    name: str

    def open(self, rate: int, channels: int) -> None:
        """Get ready for sound of this form, closing what was open; OutputError if that cannot be."""
        ...

    def write(self, block: Block) -> None:
        """Play the block after what was written before; OutputError if the device has gone."""
        ...

    def latency_frames(self) -> int:
        """Return how many of the frames written last have not been heard yet."""
        ...

    def flush(self) -> None:
        """Play what was written and go quiet until the next write."""
        ...

    def close(self) -> None:
        """Let go of the device."""
        ...


def system_or_simulated() -> tuple[Output, str]:
    """Return the system's sound output, or the simulated one and the sentence that says why."""
    from umbrick.playback.simulated import SimulatedOutput

    try:
        from umbrick.playback.system import SystemOutput

        return SystemOutput(), ""
    except OutputError as error:
        return SimulatedOutput(), f"{error} Sound goes to the simulated output."
