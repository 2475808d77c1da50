"""Findings that belong together: the tops of one clipped passage, the clicks of one strike, the gaps of one bad stretch
of a line, a scratch that comes round with every turn. A person decides about them once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.finding import Finding
from umbrick.core.survey.table import FindingTable, Integers
from umbrick.core.survey.turning_period import turning_period, turns
from umbrick.core.units import format_clock, format_count

_TOGETHER_SECONDS = {
    "clipping": 0.3,
    "click": 0.05,
    "crackle": 1.0,
    "mouth_click": 0.25,
    "dropout": 0.6,
    "discontinuity": 0.25,
    "stutter": 0.6,
    "plosive": 0.25,
    "sibilance": 0.25,
    "slip": 2.0,
    "thump": 0.25,
}
"""How far apart findings of one kind may lie and belong together; those of other kinds stay single."""

_NAMES = {
    "clipping": "top",
    "click": "click",
    "crackle": "burst",
    "mouth_click": "mouth click",
    "dropout": "gap",
    "discontinuity": "break",
    "stutter": "repeat",
    "plosive": "plosive",
    "sibilance": "S sound",
    "slip": "slip",
    "thump": "thump",
}
_TURNING_KINDS = ("click", "thump")


@dataclass(frozen=True)
class Group:
    """Two findings or more of one kind that belong together, in order of time; ``period`` is that of the turning of a
    disc with which they come round, in seconds, or 0."""

    findings: tuple[Finding, ...]
    period: float = 0.0

    @property
    def kind(self) -> str:
        """The kind of all of them."""
        return self.findings[0].kind

    @property
    def start(self) -> int:
        """Where the first begins."""
        return self.findings[0].start

    @cached_property
    def stop(self) -> int:
        """Where the last of them ends."""
        return max(finding.stop for finding in self.findings)

    @property
    def channels(self) -> tuple[int, ...]:
        """The channels of any of them."""
        return tuple(sorted({channel for finding in self.findings for channel in finding.channels}))

    @cached_property
    def worst_first(self) -> list[Finding]:
        """The findings, the most severe first."""
        return sorted(self.findings, key=lambda finding: -finding.severity)

    @cached_property
    def ranks(self) -> dict[str, int]:
        """By the ids of the findings, how many are more severe."""
        return {finding.id: rank for rank, finding in enumerate(self.worst_first)}

    @property
    def severity(self) -> float:
        """That of the worst."""
        return self.worst_first[0].severity

    @cached_property
    def confidence(self) -> float:
        """That of the surest."""
        return max(finding.confidence for finding in self.findings)

    @property
    def evidence(self) -> str:
        """How many there are of what, and the evidence for the worst."""
        count = format_count(len(self.findings), _NAMES[self.kind])
        if self.period:
            count = f"a scratch: {count}, one every {self.period:.2f} s"
        return f"{count}; the worst: {self.worst_first[0].evidence}"

    def clock(self, rate: int) -> str:
        """Return from when to when they lie."""
        return f"{format_clock(self.start, rate)} to {format_clock(self.stop, rate)}"


class Groups:
    """Which rows of a table belong together.

    Parameters
    ----------
    table : FindingTable
    rows : ndarray
        The rows that are looked at, ascending.
    rate : int
        Frames a second.
    """

    def __init__(self, table: FindingTable, rows: Integers, rate: int) -> None:
        self._table = table
        self._rate = rate
        self._periods: dict[int, float] = {}
        self._made: dict[int, Group] = {}
        self.labels = np.full(len(table.findings), -1, np.int64)
        """The group of each row, −1 for those that are not looked at."""
        count = 0
        for code, kind in enumerate(table.kind_names):
            own = rows[table.kinds[rows] == code]
            if len(own):
                labels, periods = self._labelled(kind, own)
                self.labels[own] = count + labels
                self._periods |= {count + label: period for label, period in periods.items()}
                count += int(labels.max()) + 1
        self._order = rows[np.argsort(self.labels[rows], kind="stable")]
        self._bounds = np.searchsorted(self.labels[self._order], np.arange(count + 1))

    def _labelled(self, kind: str, rows: Integers) -> tuple[Integers, dict[int, float]]:
        """Return the group of each row of a kind, from 0 on, and the periods of those that come round."""
        if kind not in _TOGETHER_SECONDS:
            return np.arange(len(rows)), {}
        starts = self._table.starts[rows]
        until = np.maximum.accumulate(self._table.stops[rows])
        is_apart = starts[1:] - until[:-1] > _TOGETHER_SECONDS[kind] * self._rate
        labels = np.concatenate([[0], np.cumsum(is_apart)])
        period = turning_period(starts / self._rate) if kind in _TURNING_KINDS else 0.0
        if not period:
            return labels, {}
        chains = turns(starts / self._rate, period)
        for chain in chains:
            labels[np.isin(labels, labels[chain])] = labels[chain].min()
        labels = np.unique(labels, return_inverse=True)[1]
        return labels, {int(labels[chain[0]]): period for chain in chains}

    def __len__(self) -> int:
        return len(self._bounds) - 1

    def rows(self, label: int) -> Integers:
        """Return the rows of a group, ascending."""
        return self._order[self._bounds[label] : self._bounds[label + 1]]

    def sizes(self) -> Integers:
        """Return how many rows each group has."""
        return np.diff(self._bounds)

    def of_kind(self, kind: str) -> Integers:
        """Return the groups of a kind, in order of their first rows."""
        if kind not in self._table.kind_names:
            return np.zeros(0, np.int64)
        firsts = self._order[self._bounds[:-1]]
        return np.flatnonzero(self._table.kinds[firsts] == self._table.kind_names.index(kind))

    def in_order(self) -> Integers:
        """Return all groups, in order of their first rows."""
        return np.argsort(self._order[self._bounds[:-1]], kind="stable")

    def severities(self) -> npt.NDArray[np.float64]:
        """Return how severe the worst of each group is."""
        if not len(self):
            return np.zeros(0)
        return np.asarray(np.maximum.reduceat(self._table.severities[self._order], self._bounds[:-1]))

    def first(self, label: int) -> Finding:
        """Return the earliest finding of a group."""
        return self._table.findings[self._order[self._bounds[label]]]

    def group(self, label: int) -> Group | None:
        """Return a group, or None for a finding that is by itself; the same object whenever it is asked for."""
        if label not in self._made:
            rows = self.rows(label)
            if len(rows) < 2:
                return None
            findings = tuple(self._table.findings[row] for row in rows.tolist())
            self._made[label] = Group(findings, self._periods.get(label, 0.0))
        return self._made[label]

    def names(self) -> dict[str, str]:
        """Return by the ids of findings that are not by themselves the name of their group, ``g1`` and so on."""
        several = (label for label in self.in_order().tolist() if self._bounds[label + 1] - self._bounds[label] > 1)
        return {
            self._table.findings[row].id: f"g{number}"
            for number, label in enumerate(several, 1)
            for row in self.rows(label).tolist()
        }


def together(findings: Sequence[Finding], rate: int) -> Iterator[Group | Finding]:
    """Yield findings in order of time, those that belong together as one."""
    groups = _groups(findings, rate)
    for label in groups.in_order().tolist():
        yield groups.group(label) or groups.first(label)


def names_of_groups(findings: Sequence[Finding], rate: int) -> dict[str, str]:
    """Return by the ids of findings that are not by themselves the name of their group."""
    return _groups(findings, rate).names()


def _groups(findings: Sequence[Finding], rate: int) -> Groups:
    return Groups(FindingTable.of(findings), np.arange(len(findings)), rate)
