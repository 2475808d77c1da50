"""How much of anything a casebook may hold: a stranger's file must not fill the memory."""

from __future__ import annotations

import json
from typing import Any

from umbrick.casebook.errors import DamagedCasebookError

MOST_RECORDINGS = 1000
MOST_EDITS = 1_000_000
MOST_FINDINGS = 5_000_000
LONGEST_TEXT = 1 << 20
LARGEST_BLOB = 1 << 30
MOST_CHANNELS = 256
HIGHEST_RATE = 1 << 20
MOST_FRAMES = 1 << 40

JSON_LIMIT = 64 * LONGEST_TEXT


def loaded(text: str, kind: type, limit: int = LONGEST_TEXT) -> Any:
    """Return JSON of a casebook; DamagedCasebookError if it is too long, or not JSON of that kind."""
    if len(text) > limit:
        raise DamagedCasebookError("A text is longer than a casebook may hold.")
    try:
        value = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise DamagedCasebookError("A text is not what a casebook holds there.") from error
    if not isinstance(value, kind):
        raise DamagedCasebookError("A text is not what a casebook holds there.")
    return value


def names(text: str) -> tuple[str, ...]:
    """Return a JSON list of names."""
    if text[:2] == '["' and text[-2:] == '"]' and text.count('"') == 2 and "\\" not in text:
        return (text[2:-2],)  # most lists have one plain name, and there are many of them
    value = loaded(text, list, JSON_LIMIT)
    if not all(isinstance(name, str) for name in value):
        raise DamagedCasebookError("A list of names holds something else.")
    return tuple(value)


def channels(text: str, count: int) -> tuple[int, ...]:
    """Return a JSON list of channels of a recording that has ``count``."""
    value = loaded(text, list)
    if not value or not all(type(channel) is int and 0 <= channel < count for channel in value):
        raise DamagedCasebookError("A list of channels names some that do not exist.")
    return tuple(value)
