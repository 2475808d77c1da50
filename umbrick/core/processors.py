"""How many processors one piece of work may use: fewer where several run side by side."""

from __future__ import annotations

import os

_limit = 0


def processors() -> int:
    """Return how many threads are worth starting."""
    return _limit or os.cpu_count() or 1


def limit_processors(count: int) -> None:
    """Have this process use so many from now on; 0 for all there are."""
    global _limit
    _limit = count
