"""Which treatment takes out what runs through a recording: a kind of finding that is not mended at a place."""

from __future__ import annotations

from dataclasses import dataclass, field

from umbrick.core.mend.parameters import Parameters


@dataclass(frozen=True, slots=True)
class Laid:
    """What is laid over all of a recording for a kind of finding."""

    words: str
    method: str
    settings: Parameters = field(default_factory=dict)


LAID_FOR = {
    "hum": Laid("Take out hum", "dehum"),
    "hiss": Laid("Lower noise", "denoise"),
    "dc_offset": Laid("Take out DC", "dc"),
    "rumble": Laid("Low cut", "filter", {"shape": "low_cut", "frequency_hz": 60.0}),
}
