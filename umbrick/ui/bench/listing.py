"""What the docket lists: findings that pass their sensitivity or were decided about, and what was decided."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.table import FindingTable, Integers, Mask

CODES = {State.OPEN: 0, State.MENDED: 1, State.KEPT: 2}
_STATES = {code: state for state, code in CODES.items()}


@dataclass(frozen=True, eq=False)
class Listing:
    """A view of a table: ``codes`` holds the state of every row of it; ``rows`` and ``open_rows`` ascend."""

    table: FindingTable
    codes: npt.NDArray[np.int8]
    is_listed: Mask
    rows: Integers
    open_rows: Integers

    @classmethod
    def of(cls, table: FindingTable, sensitivity: dict[str, float], codes: npt.NDArray[np.int8]) -> Listing:
        """Sift a table."""
        listed = table.passing(sensitivity) | (codes != CODES[State.OPEN])
        return cls(table, codes, listed, np.flatnonzero(listed), np.flatnonzero(listed & (codes == CODES[State.OPEN])))

    def state_of(self, finding: Finding) -> State:
        """Return what has been decided about a finding."""
        row = self.table.rows.get(finding.id)
        return State.OPEN if row is None else _STATES[int(self.codes[row])]

    def count(self, state: State) -> int:
        """Return how many listed findings are in a state."""
        return int(np.count_nonzero(self.codes[self.rows] == CODES[state]))

    def within(self, start: float, stop: float) -> list[Finding]:
        """Return the listed findings that reach into a span, in order of time."""
        rows = self.table.within(start, stop)
        return self._findings(rows[self.is_listed[rows]])

    def open_findings(self, kind: str | None = None) -> list[Finding]:
        """Return the open findings, of one kind if asked."""
        rows = self.open_rows
        return self._findings(rows if kind is None else rows[self.table.of_kind(kind)[rows]])

    def open_near(self, finding: Finding, frames: int) -> list[Finding]:
        """Return the open findings of the same kind within so many frames of one."""
        rows = self.table.within(finding.start - frames, finding.stop + frames)
        rows = rows[self.is_listed[rows] & (self.codes[rows] == CODES[State.OPEN])]
        return self._findings(rows[self.table.of_kind(finding.kind)[rows]])

    def neighbour(self, position: int, focus: Finding | None, step: int) -> Finding | None:
        """Return the open finding after (``step`` 1) or before (−1) the focus, else a position; round at the ends."""
        if not len(self.open_rows):
            return None
        row = self.table.rows.get(focus.id) if focus else None
        if row is None:
            # A position lies before the findings that begin at it.
            index = int(np.searchsorted(self.table.starts[self.open_rows], position))
            index += 0 if step > 0 else -1
        elif step > 0:
            index = int(np.searchsorted(self.open_rows, row, side="right"))
        else:
            index = int(np.searchsorted(self.open_rows, row)) - 1
        return self.table.findings[self.open_rows[index % len(self.open_rows)]]

    def _findings(self, rows: Integers) -> list[Finding]:
        return [self.table.findings[row] for row in rows.tolist()]
