"""Something a person should decide about, when they like: a sentence and what can be done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Choice:
    """One thing that can be done about a notice."""

    text: str
    do: Callable[[], object]


@dataclass(frozen=True)
class Notice:
    """A sentence with choices; it stays until one is taken or it is put away."""

    text: str
    choices: tuple[Choice, ...] = ()
