"""Where a moment of one recording is in another of the same event."""

from __future__ import annotations

from dataclasses import dataclass

PPM = 1e-6


@dataclass(frozen=True, slots=True)
class Clock:
    """How a recording runs against the set's clock, which is that of its first recording.

    ``offset_frames`` is its own frame at the moment when the first one begins: positive where it starts earlier, so
    that its sound lies later in its file. ``drift_ppm`` is by how many millionths it counts faster, and ``rate`` its
    frames a second as its file says. ``confidence`` runs from 0 to 1.
    """

    rate: int
    offset_frames: float = 0.0
    drift_ppm: float = 0.0
    confidence: float = 1.0

    @property
    def is_that_of_the_set(self) -> bool:
        """Whether the recording is the one that the others are measured against, or runs just as it does."""
        return self.offset_frames == 0 and self.drift_ppm == 0

    def frame_at(self, seconds: float) -> float:
        """Return the recording's own frame at a time of the set's clock."""
        return self.offset_frames + seconds * self.rate * (1.0 + self.drift_ppm * PPM)

    def seconds_at(self, frame: float) -> float:
        """Return the time on the set's clock of one of the recording's own frames: the inverse of the above."""
        return (frame - self.offset_frames) / (self.rate * (1.0 + self.drift_ppm * PPM))
