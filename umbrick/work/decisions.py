"""What the history has decided about each finding, followed step by step."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.finding import State
from umbrick.core.survey.table import FindingTable
from umbrick.core.timeline.history import Edit, Entry, History
from umbrick.work.listing import CODES


class Decisions:
    """How many acting mends and deliberate keeps each row of a table has.

    It costs as much as the edits since it last looked, not as much as the whole history.
    """

    def __init__(self, table: FindingTable) -> None:
        self.table = table
        self._applied: list[tuple[Edit, list[tuple[str, int]], list[tuple[str, int]]]] = []
        self._mended = np.zeros(len(table.findings), np.int32)
        self._kept = np.zeros(len(table.findings), np.int32)

    def codes(self, history: History) -> npt.NDArray[np.int8]:
        """Return the state of every row as the history stands now."""
        edits = history.all_edits
        while self._applied and (
            len(self._applied) > history.now or self._applied[-1][0] is not edits[len(self._applied) - 1]
        ):
            _, mended, kept = self._applied.pop()
            self._count(self._mended, mended, -1)
            self._count(self._kept, kept, -1)
        for number in range(len(self._applied), history.now):
            edit = edits[number]
            mended = list(_mended_by(history, number))
            kept = [(name, 1) for name in edit.kept]
            self._applied.append((edit, mended, kept))
            self._count(self._mended, mended, 1)
            self._count(self._kept, kept, 1)
        codes = np.full(len(self._mended), CODES[State.OPEN], np.int8)
        codes[self._kept > 0] = CODES[State.KEPT]
        codes[self._mended > 0] = CODES[State.MENDED]
        return codes

    def _count(self, counts: npt.NDArray[np.int32], names: list[tuple[str, int]], sign: int) -> None:
        known = self.table.rows
        if not known:
            return
        pairs = [(row, by) for name, by in names if (row := known.get(name)) is not None]
        if pairs:
            rows, by = np.array(pairs, np.int64).T
            np.add.at(counts, rows, (sign * by).astype(np.int32))


def findings_of(history: History, number: int) -> set[str]:
    """Return the ids of the findings whose state the edit of this number, counted from 0, changes."""
    edit = history.all_edits[number]
    return {name for name, _ in _mended_by(history, number)} | set(edit.kept)


def _mended_by(history: History, number: int) -> Iterable[tuple[str, int]]:
    """Yield by how many acting mends a finding has more after an edit."""
    for turn in history.turns_of(number):
        for entry, sign in ((turn.before, -1), (turn.after, 1)):
            if entry is not None and entry.is_on:
                yield from _of(entry, sign)


def _of(entry: Entry, sign: int) -> Iterable[tuple[str, int]]:
    for name in entry.mend.finding_ids:
        yield name, sign
    for name in entry.mend.reopened_ids:
        yield name, -sign
