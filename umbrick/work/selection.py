"""What is selected."""

from __future__ import annotations

from dataclasses import dataclass, replace

from umbrick.core.areas.area import Area
from umbrick.core.areas.placed import PlacedArea, placed
from umbrick.core.mend.place import Place


@dataclass(frozen=True, slots=True)
class Selection:
    """A half-open span of frames of the version that is worked on, on some channels; never empty."""

    start: int
    stop: int
    channels: tuple[int, ...]

    @property
    def span(self) -> tuple[int, int]:
        """Start and stop."""
        return self.start, self.stop

    @property
    def length(self) -> int:
        """Frames."""
        return self.stop - self.start

    @property
    def place(self) -> Place:
        """Where a method is to work."""
        return Place(self.start, self.stop, self.channels)

    def on(self, channels: tuple[int, ...]) -> Selection:
        """Return the same span on other channels."""
        return replace(self, channels=channels)

    def within(self, frames: int) -> Selection | None:
        """Return what of it lies in a version of so many frames; None if nothing does."""
        start, stop = min(self.start, frames), min(self.stop, frames)
        return replace(self, start=start, stop=stop) if start < stop else None


@dataclass(frozen=True)
class SelectedArea:
    """An area of the version that is worked on, its frames counted from the version's start, on some channels."""

    area: Area
    channels: tuple[int, ...]

    def placed(self, frames: int, rate: int) -> PlacedArea:
        """Return the place it takes in a version of so many frames, and the area counted from there."""
        return placed(self.area, frames, rate)

    @property
    def is_empty(self) -> bool:
        """Whether it covers nothing."""
        start, stop, low, high = self.area.extent
        return stop <= start or high <= low
