"""How many processors one piece of work may use, and how: fewer where several run side by side."""

from __future__ import annotations

import os

_limit = 0
_is_program = False


def processors() -> int:
    """Return how many threads are worth starting."""
    return _limit or os.cpu_count() or 1


def limit_processors(count: int) -> None:
    """Have this process use so many from now on; 0 for all there are."""
    global _limit
    _limit = count


def let_start_processes() -> None:
    """Say that this is a program of its own: loaded by a process that begins anew, its main module does nothing."""
    global _is_program
    _is_program = True


def may_start_processes() -> bool:
    """Return whether what takes long may be shared out among processes."""
    return _is_program
