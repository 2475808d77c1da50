"""Where a measure is highest between its values."""

from __future__ import annotations


def vertex(before: float, at: float, after: float) -> float:
    """Return where a parabola through three values is highest, in steps from the middle one; 0 if it has no top."""
    bend = before - 2 * at + after
    return 0.5 * (before - after) / bend if bend < 0 else 0.0
