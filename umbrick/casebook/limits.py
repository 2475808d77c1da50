"""How much of anything a casebook may hold: a stranger's file must not fill the memory."""

from __future__ import annotations

import json
import math
from typing import Any

from umbrick.casebook.errors import DamagedCasebookError

MOST_RECORDINGS = 1000
MOST_EDITS = 1_000_000
MOST_FINDINGS = 5_000_000
LONGEST_TEXT = 1 << 20
LARGEST_BLOB = 1 << 30
MOST_FRAMES = 1 << 40
LARGEST_INTEGER = 1 << 62
LONGEST_PATH = 4096
LONGEST_NAME = 64
"""Characters in the name of a mend or marker."""

JSON_LIMIT = 64 * LONGEST_TEXT


def checked(rows: list[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
    """Return rows of a casebook if every value in them can be meant; DamagedCasebookError if not.

    All that is read comes through here: what is left for those who ask is what a value means.
    """
    for row in rows:
        for value in row:
            if isinstance(value, float) and not math.isfinite(value):
                raise DamagedCasebookError("A number in the casebook is none.")
            if isinstance(value, int) and abs(value) > LARGEST_INTEGER:
                raise DamagedCasebookError("A number in the casebook is beyond all bounds.")
    return rows


def loaded(text: object, kind: type, limit: int = LONGEST_TEXT) -> Any:
    """Return JSON of a casebook, which a damaged page may show as no text at all.

    Raises
    ------
    DamagedCasebookError
        If it is too long, not JSON of that kind, or holds a number or text that is none.
    """
    if not isinstance(text, str):
        raise DamagedCasebookError("A text is not what a casebook holds there.")
    if len(text) > limit:
        raise DamagedCasebookError("A text is longer than a casebook may hold.")
    try:
        value = json.loads(text, parse_constant=_refused, parse_int=_integer, parse_float=_number)
        if "\\u" in text:
            json.dumps(value, ensure_ascii=False).encode()  # half of a surrogate pair can be written, but is no text
    except (ValueError, RecursionError) as error:
        raise DamagedCasebookError("A text is not what a casebook holds there.") from error
    if not isinstance(value, kind):
        raise DamagedCasebookError("A text is not what a casebook holds there.")
    return value


def _refused(text: str) -> None:
    raise ValueError(text)


def _integer(text: str) -> int:
    if len(text) > len(str(LARGEST_INTEGER)):
        raise ValueError(text[:20])
    return int(text)


def _number(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(text[:20])
    return value


def names(text: object) -> tuple[str, ...]:
    """Return a JSON list of names."""
    if isinstance(text, str) and text[:2] == '["' and text[-2:] == '"]' and text.count('"') == 2 and "\\" not in text:
        return (text[2:-2],)  # most lists have one plain name, and there are many of them
    value = loaded(text, list, JSON_LIMIT)
    if not all(isinstance(name, str) for name in value):
        raise DamagedCasebookError("A list of names holds something else.")
    return tuple(value)


def channels(text: object, count: int) -> tuple[int, ...]:
    """Return a JSON list of channels of a recording that has ``count``."""
    value = loaded(text, list)
    if not value or not all(type(channel) is int and 0 <= channel < count for channel in value):
        raise DamagedCasebookError("A list of channels names some that do not exist.")
    return tuple(value)
