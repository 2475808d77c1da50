"""What the docket lists: findings that pass their sensitivity or were decided about, and what was decided."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from itertools import compress

import numpy as np
import numpy.typing as npt

from umbrick.core.mend.place import Place
from umbrick.core.survey.finding import SPANNING_KINDS, Finding, State
from umbrick.core.survey.groups import Groups
from umbrick.core.survey.table import FindingTable, Integers, Mask
from umbrick.work.sieve import Sieve

ALL = Sieve()
CODES = {State.OPEN: 0, State.MENDED: 1, State.KEPT: 2}
_STATES = {code: state for state, code in CODES.items()}


@dataclass(frozen=True, eq=False)
class Listing:
    """A view of a table: ``codes`` holds the state of every row; ``rows`` is what is shown, ``open_rows`` what of that
    is open, both ascending."""

    table: FindingTable
    codes: npt.NDArray[np.int8]
    is_listed: Mask
    is_shown: Mask
    rows: Integers
    open_rows: Integers
    sifted_out: int
    """How many are listed but not shown, because they do not pass the sieve."""
    rate: int

    @classmethod
    def of(
        cls,
        table: FindingTable,
        sensitivity: dict[str, float],
        codes: npt.NDArray[np.int8],
        rate: int,
        sieve: Sieve = ALL,
    ) -> Listing:
        """Sift a table by sensitivity, and what is shown of it by a sieve."""
        listed = table.passing(sensitivity) | (codes != CODES[State.OPEN])
        shown = listed if sieve.lets_all_pass else listed & sieve.passing(table, codes, CODES)
        open_rows = np.flatnonzero(shown & (codes == CODES[State.OPEN]))
        return cls(table, codes, listed, shown, np.flatnonzero(shown), open_rows, int((listed & ~shown).sum()), rate)

    def state_of(self, finding: Finding) -> State:
        """Return what has been decided about a finding."""
        row = self.table.rows.get(finding.id)
        return State.OPEN if row is None else _STATES[int(self.codes[row])]

    def count(self, state: State) -> int:
        """Return how many listed findings are in a state."""
        return int(np.count_nonzero(self.codes[self.rows] == CODES[state]))

    def within(self, start: float, stop: float) -> list[Finding]:
        """Return the findings that are shown and reach into a span, in order of time."""
        rows = self.table.within(start, stop)
        return self._findings(rows[self.is_shown[rows]])

    def open_findings(self, kind: str | None = None) -> list[Finding]:
        """Return the open findings, of one kind if asked."""
        rows = self.open_rows
        return self._findings(rows if kind is None else rows[self.table.of_kind(kind)[rows]])

    def all_open(self) -> list[Finding]:
        """Return the open findings, also those that the sieve leaves out."""
        return self._findings(np.flatnonzero(self.is_listed & (self.codes == CODES[State.OPEN])))

    def open_of(self, findings: Iterable[Finding]) -> list[Finding]:
        """Return those of some findings that are open."""
        given = list(findings)
        rows = [self.table.rows.get(finding.id, -1) for finding in given]
        # What is not in the table is open, as nothing was decided about it.
        is_open = np.append(self.codes, CODES[State.OPEN])[rows] == CODES[State.OPEN] if rows else []
        return list(compress(given, is_open))

    def label_of(self, finding: Finding) -> int:
        """Return the group of a finding; −1 if it is not shown."""
        row = self.table.rows.get(finding.id)
        return -1 if row is None else int(self.groups.labels[row])

    def counts_about(self, finding: Finding) -> dict[State, int]:
        """Return how many of those that belong together with a shown finding are in each state that any is in."""
        label = self.label_of(finding)
        if label < 0:
            return {self.state_of(finding): 1}
        counts = np.bincount(self.codes[self.groups.rows(label)], minlength=len(_STATES))
        return {state: int(counts[code]) for code, state in _STATES.items() if counts[code]}

    def open_near(self, subject: Finding | Place, frames: int) -> list[Finding]:
        """Return the open findings within so many frames of one, or of a place."""
        rows = self.table.within(subject.start - frames, subject.stop + frames)
        return self._findings(rows[self.is_listed[rows] & (self.codes[rows] == CODES[State.OPEN])])

    @cached_property
    def groups(self) -> Groups:
        """Which of the shown findings belong together."""
        return Groups(self.table, self.rows, self.rate)

    def group_of(self, finding: Finding) -> list[Finding]:
        """Return the shown findings that belong together with one, itself among them, in order of time."""
        label = self.label_of(finding)
        return [finding] if label < 0 else self._findings(self.groups.rows(label))

    def neighbour(self, position: int, focus: Finding | None, step: int, singly: bool = False) -> Finding | None:
        """Return the open finding after (``step`` 1) or before (−1) the focus, else a position; round at the ends.

        Of those that belong together it is the first that is open, and all of them are one step, unless ``singly``.
        """
        if not len(self.open_rows):
            return None
        steps = self.open_rows if singly else self._first_open_rows
        spans_all = self._spans_all()[steps]
        # What means all of the recording comes last: one steps from place to place first.
        placed, last = steps[~spans_all], steps[spans_all]
        order = np.concatenate([placed, last])
        row = self._step_of(focus, singly)
        if row is None:
            # A position lies before the findings that begin at it.
            index = int(np.searchsorted(self.table.starts[placed], position))
            index += 0 if step > 0 else -1
        elif row in last:
            index = int(np.flatnonzero(order == row)[0]) + step
        elif step > 0:
            index = int(np.searchsorted(placed, row, side="right"))
        else:
            index = int(np.searchsorted(placed, row)) - 1
        return self.table.findings[order[index % len(order)]]

    @cached_property
    def _first_open_rows(self) -> Integers:
        """Return of each group the first row that is open."""
        _, firsts = np.unique(self.groups.labels[self.open_rows], return_index=True)
        return np.sort(self.open_rows[firsts])

    def _step_of(self, focus: Finding | None, singly: bool) -> int | None:
        """Return the row that one stands at: that of the focus, or the first open one of its group."""
        row = self.table.rows.get(focus.id) if focus else None
        if focus is None or singly or (label := self.label_of(focus)) < 0:
            return row
        own = self.groups.rows(label)
        is_open = own[self.codes[own] == CODES[State.OPEN]]
        return int(is_open[0]) if len(is_open) else row

    def _spans_all(self) -> Mask:
        """Return which rows mean all of the recording."""
        return np.isin(self.table.kinds, [i for i, name in enumerate(self.table.kind_names) if name in SPANNING_KINDS])

    def _findings(self, rows: Integers) -> list[Finding]:
        return [self.table.findings[row] for row in rows.tolist()]
