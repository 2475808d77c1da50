"""Which files are of one event by their names: alike but for a number or a letter that says which microphone it was."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

_MARK = r"(?:\d{1,2}|[a-z]|left|right)"
_LAST = re.compile(
    rf"^(?P<event>.*?)(?P<parting>[ ._-]*)(?P<word>ch|tr|mic|track)?[ ._-]?(?P<mark>{_MARK})$", re.IGNORECASE
)


def fellows(path: Path, others: Iterable[Path]) -> list[Path]:
    """Return those of some files that are named like one but for the number or letter at the end, in order.

    ``gate 1.wav`` and ``gate 2.wav`` are fellows, as are ``court-L.wav`` and ``court-R.wav``; ``gate 1.flac`` is none
    of theirs, nor is ``gate.wav``. A letter counts only where something parts it from the name.
    """
    own = _event_of(path)
    if own is None:
        return []
    return sorted(other for other in others if other != path and _event_of(other) == own)


def _event_of(path: Path) -> tuple[str, str, str] | None:
    """Return what the names of an event's files have in common; None if a name has no mark at its end."""
    found = _LAST.match(path.stem)
    if found is None or not (found["event"] or found["word"]):
        return None
    is_apart = bool(found["parting"] or found["word"]) or found["mark"].isdigit()
    return (found["event"].casefold(), (found["word"] or "").casefold(), path.suffix.lower()) if is_apart else None
