"""What the engine plays into: one small interface, and choosing what is there."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
import numpy.typing as npt

Block = npt.NDArray[np.float32]
"""Sound to be played: shape ``(frames, channels)``."""


BUFFER_FRAMES = 4096
"""What the simulated output holds unless something else is asked for; a device of low latency holds about as much."""


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

    def drain_to(self, frames: int) -> None:
        """Wait until at most so many frames have not been heard yet, as far as the device lets that be chosen."""
        ...

    def flush(self) -> None:
        """Play what was written and go quiet until the next write."""
        ...

    def close(self) -> None:
        """Let go of the device."""
        ...


LATENCIES = ("high", "low")


@dataclass(frozen=True, slots=True)
class Choice:
    """Which output is wanted, and how: ``device`` is a device's name, empty for the system's own choice.

    ``latency`` is one of ``LATENCIES``; ``buffer_frames`` how much is handed over at once, 0 for what suits the device.
    """

    device: str = ""
    latency: str = "high"
    buffer_frames: int = 0


SIMULATED = "simulated output"
"""The name by which the output without a device is chosen."""


def device_names() -> list[str]:
    """Return the names of all sound devices that can play; none if PortAudio is missing."""
    from umbrick.playback.system import system_devices

    return system_devices()


def device_for(choice: Choice) -> Output | None:
    """Return the sound device that is wanted, or the system's own choice; None if there is none."""
    output, _ = output_for(choice)
    return None if output.name == SIMULATED else output


def output_for(choice: Choice) -> tuple[Output, str]:
    """Return the output that is wanted, or the nearest there is and the sentence that says why.

    A device that is missing is replaced by the system's own choice, and that by the simulated output.
    """
    from umbrick.playback.simulated import SimulatedOutput
    from umbrick.playback.system import SystemOutput

    if choice.device == SIMULATED:
        return SimulatedOutput(buffer_frames=choice.buffer_frames or BUFFER_FRAMES), ""
    try:
        return SystemOutput(choice), ""
    except OutputError as error:
        reason = str(error)
    if choice.device:
        try:
            output = SystemOutput(replace(choice, device=""))
            return output, f"{reason} Sound goes to {output.name}."
        except OutputError:
            pass
    return SimulatedOutput(), f"{reason} Sound goes to the simulated output."
