"""The rows of the docket: kinds, findings that belong together, and single ones."""

from __future__ import annotations

from bisect import bisect_right
from typing import Any, NamedTuple

import numpy as np
from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, Qt

from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.groups import Group
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.table import Integers
from umbrick.core.units import format_clock, format_integer
from umbrick.work.listing import Listing
from umbrick.work.work import Work

_Index = QModelIndex | QPersistentModelIndex
_NOWHERE = QModelIndex()


class Section(NamedTuple):
    """A kind's part of the docket: its groups as they are listed, and at which rows under the heading they begin."""

    kind: Kind
    labels: Integers
    tops: Integers
    total: int
    """How many findings it lists."""
    length: int
    """Rows with the heading."""


class DocketModel(QAbstractListModel):
    """A row for each kind that has findings; under it one for each finding, or for those that belong together; and
    under those that are opened one for each of theirs, the worst first."""

    ENTRY = Qt.ItemDataRole.UserRole

    def __init__(self) -> None:
        super().__init__()
        self._listing: Listing | None = None
        self._rate = 1
        self._sections: list[Section] = []
        self._tops: list[int] = []
        self._length = 0
        self._shut: set[str] = set()
        self._opened: set[str] = set()
        self._worst_first = False

    def show(self, work: Work | None, worst_first: bool = False) -> None:
        """List the findings of a recording, as they are now: of each kind the worst first, or the earliest."""
        listing = work.listing() if work else None
        if listing is not self._listing or worst_first != self._worst_first:
            self._worst_first = worst_first
            self._rate = work.rate if work else 1
            self._arrange(listing)

    def turn(self, entry: Kind | Group) -> None:
        """Shut a kind's section or a group, or open it again."""
        if isinstance(entry, Kind):
            self._shut ^= {entry.name}
        else:
            self._opened ^= {entry.findings[0].id}
        self._arrange(self._listing)

    def is_shut(self, kind: Kind) -> bool:
        """Whether just a kind's heading is listed."""
        return kind.name in self._shut

    def is_open(self, group: Group) -> bool:
        """Whether the findings of a group are listed."""
        return group.findings[0].id in self._opened

    def kinds(self) -> list[Kind]:
        """Return the kinds that are listed."""
        return [section.kind for section in self._sections]

    def headings(self) -> list[int]:
        """Return the rows of the kinds."""
        return self._tops

    def _arrange(self, listing: Listing | None) -> None:
        self.beginResetModel()
        self._listing = listing
        self._sections, self._tops, self._length = [], [], 0
        for kind in KINDS.values() if listing else ():
            section = self._section(listing, kind) if listing else None
            if section is not None:
                self._sections.append(section)
                self._tops.append(self._length)
                self._length += section.length
        self.endResetModel()

    def _section(self, listing: Listing, kind: Kind) -> Section | None:
        groups = listing.groups
        labels = groups.of_kind(kind.name)
        if not len(labels):
            return None
        if self._worst_first:
            labels = labels[np.argsort(-groups.severities()[labels], kind="stable")]
        sizes = groups.sizes()[labels]
        lengths = np.ones(len(labels), np.int64)
        for index in np.flatnonzero(sizes > 1).tolist() if self._opened else ():
            if groups.first(labels[index]).id in self._opened:
                lengths[index] += sizes[index]
        tops = np.concatenate([[0], np.cumsum(lengths)])
        return Section(kind, labels, tops, int(sizes.sum()), 1 + (0 if kind.name in self._shut else int(tops[-1])))

    def rowCount(self, parent: _Index = _NOWHERE) -> int:
        """Return the number of rows."""
        return 0 if parent.isValid() else self._length

    def entry(self, row: int) -> Finding | Group | Kind:
        """Return what a row shows."""
        section, place, inside = self._at(row)
        if place < 0 or self._listing is None:
            return section.kind
        groups, label = self._listing.groups, int(section.labels[place])
        group = groups.group(label)
        if group is None:
            return groups.first(label)
        return group if inside < 0 else group.worst_first[inside]

    def is_inside(self, row: int) -> bool:
        """Whether a row is that of a finding in an opened group."""
        return self._at(row)[2] >= 0

    def _at(self, row: int) -> tuple[Section, int, int]:
        """Return a row's section, which of its groups it belongs to (−1 for the heading), and which of the group's
        findings it is (−1 for the group, or a finding that is by itself)."""
        number = bisect_right(self._tops, row) - 1
        section, index = self._sections[number], row - self._tops[number] - 1
        place = int(np.searchsorted(section.tops, index, side="right")) - 1
        return (section, place, index - int(section.tops[place]) - 1) if index >= 0 else (section, -1, -1)

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Return a row's entry, or the words a screen reader speaks for it."""
        entry = self.entry(index.row())
        if role == self.ENTRY:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            if isinstance(entry, Kind):
                return f"{entry.title}, {self.count(entry)}: {entry.summary}"
            return (
                f"{self.clock(entry)}, {entry.evidence}; severity {entry.severity:.2f}, "
                f"confidence {entry.confidence:.2f}, {self.state_told(entry) or State.OPEN.value}"
            )
        return None

    def flags(self, index: _Index) -> Qt.ItemFlag:
        """Headings cannot be chosen."""
        if isinstance(self.entry(index.row()), Kind):
            return Qt.ItemFlag.ItemIsEnabled
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable

    def state_of(self, entry: Finding | Group) -> State:
        """Return a finding's state; of a group open as long as any of it is."""
        counts = self._counts(entry)
        return next((state for state in (State.OPEN, State.MENDED, State.KEPT) if state in counts), State.OPEN)

    def state_told(self, entry: Finding | Group) -> str:
        """Return what has been decided about a finding or a group in words, nothing if all is open."""
        counts = self._counts(entry)
        if len(counts) <= 1:
            state = next(iter(counts), State.OPEN)
            return "" if state is State.OPEN else state.value
        return ", ".join(f"{format_integer(counts[state])} {state.value}" for state in State if state in counts)

    def _counts(self, entry: Finding | Group) -> dict[State, int]:
        if self._listing is None:
            return {}
        if isinstance(entry, Group):
            return self._listing.counts_about(entry.findings[0])
        return {self._listing.state_of(entry): 1}

    def clock(self, entry: Finding | Group) -> str:
        """Return where a finding begins, or from when to when a group lies."""
        return entry.clock(self._rate) if isinstance(entry, Group) else format_clock(entry.start, self._rate)

    def count(self, kind: Kind) -> int:
        """Return how many findings of a kind are listed."""
        return next((section.total for section in self._sections if section.kind is kind), 0)

    def row_of(self, finding: Finding | None, as_group: bool = False) -> int:
        """Return a finding's row, or that of its group where this is shut or ``as_group``; −1 if there is none."""
        listing = self._listing
        if listing is None or finding is None or (label := listing.label_of(finding)) < 0:
            return -1
        for section, top in zip(self._sections, self._tops, strict=True):
            if section.kind.name == finding.kind and not self.is_shut(section.kind):
                place = int(np.flatnonzero(section.labels == label)[0])
                row = top + 1 + int(section.tops[place])
                is_open = section.tops[place + 1] - section.tops[place] > 1
                group = listing.groups.group(label) if is_open and not as_group else None
                return row if group is None else row + 1 + group.ranks[finding.id]
        return -1

    def open_around(self, finding: Finding) -> None:
        """Have a finding's own row be listed where its group is shut."""
        listing = self._listing
        label = listing.label_of(finding) if listing else -1
        group = listing.groups.group(label) if listing and label >= 0 else None
        if group is not None and not self.is_open(group):
            self.turn(group)
