"""What the keys mean while something is held: tried on the bench, and neither made nor let go of yet."""

from __future__ import annotations

from typing import Protocol


class Held(Protocol):
    """Something that can be held. Keys that mean nothing to it do nothing."""

    @property
    def holds(self) -> bool:
        """Whether it is held now."""
        ...

    def take(self) -> None:
        """Make it so (Enter)."""
        ...

    def leave(self) -> None:
        """Leave it, and everything as it was (Esc)."""
        ...

    def slide(self, frames: int) -> None:
        """Move it in time (Left and Right)."""
        ...

    def lift(self, steps: int) -> None:
        """Move it in level (Up and Down)."""
        ...

    def pick(self, index: int) -> None:
        """Take one of what it proposes, counted from 0 (digits)."""
        ...

    @property
    def proposals_count(self) -> int:
        """How many it proposes."""
        ...
