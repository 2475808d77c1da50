"""Tables as CSV in which no cell can be taken for a formula by the program that opens them."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence

_FORMULA = re.compile(r"'*\s*[=+\-@\t\r]")
"""What a spreadsheet would compute, also behind apostrophes: one more is put before it and taken off again."""

_NUMBER = re.compile(r"[+\-]?\d+(\.\d+)?")
_GUARD = "'"


def csv_text(rows: Iterable[Sequence[object]]) -> str:
    """Return rows as CSV text, one a line.

    A text that a spreadsheet would compute, as it begins with ``=``, ``+``, ``-`` or ``@``, is set behind an
    apostrophe; numbers stay as they are.
    """
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows([[_guarded(cell) for cell in row] for row in rows])
    return text.getvalue()


def unguarded(cell: str) -> str:
    """Return a cell as it was before :func:`csv_text` set it behind an apostrophe."""
    return cell[1:] if cell.startswith(_GUARD) and _FORMULA.match(cell[1:]) else cell


def _guarded(cell: object) -> object:
    if not isinstance(cell, str) or _NUMBER.fullmatch(cell):
        return cell
    return _GUARD + cell if _FORMULA.match(cell) else cell
