"""The edits of a recording in the order they were made, the ledger of its mends, and undo."""

from __future__ import annotations

import time
from bisect import bisect_left
from collections import OrderedDict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from umbrick import __version__
from umbrick.core.course.step import Course, Settled
from umbrick.core.errors import UmbrickError
from umbrick.core.timeline.change import Change, applied
from umbrick.core.timeline.marks import CourseTurn, Mark, Marker, MarkerTurn, NoteTurn, Standing, StandingTurn
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_count

_VERSIONS_AT_HAND = 8
"""Versions kept so that undo and redo of a large edit need not work it out again."""

_ID_PREFIX = "m"

RESTORE = "restore"
"""The method of a ledger entry that brought back the original somewhere."""


FROM_LANES = "lanes"
"""The method of a ledger entry that filled a place from linked recordings."""

SETTLE = "settle"
"""The method of a ledger entry that made what the course did ordinary samples."""


class LengthHeldError(UmbrickError):
    """Something would change the length of a recording whose length is held."""

    def __init__(self, frames: int) -> None:
        longer = "longer" if frames > 0 else "shorter"
        super().__init__(
            f"The length is held, and this would make it {longer} by {format_count(abs(frames), 'frame')}.",
            "Choose a mend that keeps the length or pays it back, or let the length go.",
        )


class StaleEditError(UmbrickError):
    """An edit was worked out on a version that is not the current one any more."""

    def __init__(self) -> None:
        super().__init__("The recording has changed since this was worked out.", "Nothing was changed; do it again.")


@dataclass(frozen=True, slots=True)
class Mend:
    """One applied repair: what was done, where (in frames of the version it was made on), and how.

    ``seam_score`` is None for methods that are not scored; ``time_shift`` is the change of length in frames;
    ``reopened_ids`` names findings that are open again because their mends were covered. ``id`` is unique within the
    recording, ``made_at`` seconds since 1970, ``program`` the version of Umbrick that made it; all three are given
    when the mend enters the history.
    """

    method: str
    start: int
    stop: int
    channels: tuple[int, ...]
    parameters: dict[str, Any]
    seam_score: float | None = None
    time_shift: int = 0
    finding_ids: tuple[str, ...] = ()
    reopened_ids: tuple[str, ...] = ()
    id: str = ""
    made_at: float = 0.0
    program: str = ""


@dataclass(frozen=True, slots=True)
class Edit:
    """One step of the history, undone and redone as a whole.

    ``changes`` are applied one after another. ``parts`` gives, for each mend of ``made`` and then for each id of
    ``switched_on``, which spans of a change are its own, as a half-open range; ``owners`` says for each of ``made``
    which change that is, and is empty where it is the last for all. ``switched_off`` and ``lifted``
    name mends that no longer act; lifted ones leave the ledger too. ``kept`` names findings that were left as they
    are, on purpose. ``marks`` is what it does to markers, notes and the course. ``step`` names a step that was made in
    several linked recordings at once, and is empty for all others.
    """

    title: str
    changes: tuple[Change, ...] = ()
    made: tuple[Mend, ...] = ()
    parts: tuple[tuple[int, int], ...] = ()
    switched_on: tuple[str, ...] = ()
    switched_off: tuple[str, ...] = ()
    lifted: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    made_at: float = 0.0
    marks: tuple[Mark, ...] = ()
    owners: tuple[int, ...] = ()
    step: str = ""

    def change_of(self, number: int) -> Change:
        """Return the change that holds the spans of a mend of ``made``, counted from 0."""
        return self.changes[self.owners[number] if self.owners else -1]

    @property
    def time_shift(self) -> int:
        """How many frames longer the recording becomes."""
        return sum(change.time_shift for change in self.changes)

    @property
    def moves(self) -> bool:
        """Whether anything comes earlier or later."""
        return any(change.moves for change in self.changes)


@dataclass(frozen=True, slots=True)
class Entry:
    """A line of the ledger: a mend, whether it acts, and its spans in the change that last put it there."""

    number: int
    mend: Mend
    is_on: bool
    change: Change
    first: int
    last: int


@dataclass(frozen=True, slots=True)
class Turn:
    """What an edit does to one entry of the ledger; None where there is none before, or after."""

    before: Entry | None
    after: Entry | None


@dataclass
class History:
    """Edits as differences; undo and redo apply them backwards and forwards.

    A new edit drops those that were undone before it.
    """

    original: Version
    revision: int = 0
    """How many times it has changed, counted on over closing and reopening: who writes it down holds that number
    against what is written already, so that two that were read alike cannot both go on."""
    holds_length: bool = False
    """Whether nothing may change the length."""
    _edits: list[Edit] = field(init=False, default_factory=list)
    _turns: list[tuple[Turn, ...]] = field(init=False, default_factory=list)
    _entries: dict[str, Entry] = field(init=False, default_factory=dict)
    _markers: dict[str, Marker] = field(init=False, default_factory=dict)
    _notes: dict[str, str] = field(init=False, default_factory=dict)
    _settled: tuple[tuple[Entry, ...], tuple[Settled, ...]] | None = field(init=False, default=None)
    _standing: Standing = field(init=False, default_factory=Standing)
    _course: Course = field(init=False, default=())
    _lines: list[Entry] = field(init=False, default_factory=list)
    _acting: int = field(init=False, default=0)
    _moving: int = field(init=False, default=0)
    _now: int = field(init=False, default=0)
    _made: int = field(init=False, default=0)
    _versions: OrderedDict[int, Version] = field(init=False, default_factory=OrderedDict)
    _ledger: tuple[Entry, ...] | None = field(init=False, default=None)

    def __post_init__(self) -> None:
        self._versions[0] = self.original

    @classmethod
    def rebuilt(
        cls, original: Version, edits: Iterable[Edit], now: int, at: int, version: Version, revision: int = 0
    ) -> History:
        """Return the history of edits made earlier.

        Parameters
        ----------
        original : Version
        edits : iterable of Edit
            All of them, the undone ones too.
        now : int
            How many of them act.
        at : int
            For how many of them ``version`` is the outcome.
        version : Version
        revision : int
        """
        history = cls(original, revision)
        for edit in edits:
            history._append(edit)
        history._versions = OrderedDict({at: version})
        history._now = len(history._edits)
        while history._now > now:
            history._now -= 1
            history._turn_back(history._now)
            history._moving -= history._edits[history._now].moves
        history._versions = OrderedDict({now: history.version_at(now)})
        return history

    @property
    def now(self) -> int:
        """How many edits lead to the current version."""
        return self._now

    @property
    def current(self) -> Version:
        """The version that is worked on."""
        return self.version_at(self._now)

    @property
    def edits(self) -> Sequence[Edit]:
        """The edits that lead from the original to the current version."""
        return self._edits[: self._now]

    @property
    def all_edits(self) -> Sequence[Edit]:
        """Those, and the undone ones after them."""
        return self._edits

    @property
    def latest(self) -> Edit | None:
        """The edit that made the current version, or None at the original."""
        return self._edits[self._now - 1] if self._now else None

    @property
    def ledger(self) -> tuple[Entry, ...]:
        """Every mend that was not lifted off, oldest first."""
        if self._ledger is None:
            self._ledger = tuple(self._lines)
        return self._ledger

    @property
    def mends(self) -> tuple[Mend, ...]:
        """Every mend that acts in the current version, oldest first."""
        return tuple(entry.mend for entry in self.ledger if entry.is_on)

    @property
    def mend_count(self) -> int:
        """How many mends act."""
        return self._acting

    @property
    def markers(self) -> list[Marker]:
        """Every marker, in order of place."""
        return sorted(self._markers.values(), key=lambda marker: (marker.start, marker.stop, marker.id))

    @property
    def notes(self) -> Mapping[str, str]:
        """The notes on findings, by their ids."""
        return self._notes

    @property
    def course(self) -> Course:
        """The treatments laid over the current version."""
        return self._course

    @property
    def standing(self) -> Standing:
        """What is settled for kinds of finding."""
        return self._standing

    def begin_with(self, standing: Standing) -> None:
        """Take over what was settled before histories knew of it; no effect if this one does."""
        if not any(isinstance(mark, StandingTurn) for edit in self._edits for mark in edit.marks):
            self._standing = standing

    @property
    def settled(self) -> tuple[Settled, ...]:
        """What steps of the course are settled in, and act in no more."""
        ledger = self.ledger
        if self._settled is None or self._settled[0] is not ledger:
            on = [entry.mend.parameters for entry in ledger if entry.is_on and entry.mend.method == SETTLE]
            self._settled = (
                ledger,
                tuple(Settled(start, stop, tuple(held["steps"])) for held in on for start, stop in held["spans"]),
            )
        return self._settled[1]

    @property
    def timing_debt(self) -> int:
        """By how many frames the end of the recording has moved against the original."""
        return self.current.frames - self.original.frames

    @property
    def is_in_place(self) -> bool:
        """Whether every frame is where it was in the original: no edit that acts moves anything."""
        return self._moving == 0

    @property
    def undo_title(self) -> str | None:
        """What undo would take back, or None."""
        return self._edits[self._now - 1].title if self._now else None

    @property
    def redo_title(self) -> str | None:
        """What redo would bring back, or None."""
        return self._edits[self._now].title if self._now < len(self._edits) else None

    def entry(self, mend_id: str) -> Entry:
        """Return a mend's line in the ledger; KeyError if it was lifted off or never made."""
        return self._entries[mend_id]

    def has_entry(self, mend_id: str) -> bool:
        """Whether a mend is in the ledger."""
        return mend_id in self._entries

    def admitted(self, edit: Edit) -> Edit:
        """Return the edit as it will stand in the history: with the time, and with ids for its new mends.

        Raises
        ------
        StaleEditError
            If it was worked out on another version than the current one.
        """
        if edit.changes and not edit.changes[0].fits(self.current):
            raise StaleEditError
        self.check_length(edit.time_shift)
        at = time.time()
        made = tuple(
            replace(mend, id=f"{_ID_PREFIX}{self._made + number}", made_at=at, program=__version__)
            for number, mend in enumerate(edit.made, 1)
        )
        return replace(edit, made=made, made_at=at)

    def check_length(self, time_shift: int) -> None:
        """Raise LengthHeldError if the length is held and something would change it by so many frames."""
        if self.holds_length and time_shift:
            raise LengthHeldError(time_shift)

    def push(self, edit: Edit, version: Version | None = None) -> Edit:
        """Apply an edit to the current version, and return it as it stands in the history.

        ``version`` is the outcome, if it is known already.
        """
        if not edit.made_at:
            edit = self.admitted(edit)
        version = version or applied(self.current, edit.changes)
        del self._edits[self._now :], self._turns[self._now :]
        for at in [at for at in self._versions if at > self._now]:
            del self._versions[at]
        self._append(edit)
        self._now += 1
        self.revision += 1
        self._keep(self._now, version)
        return edit

    def undo(self) -> Edit | None:
        """Go back one step and return the edit taken back, or None at the original."""
        if not self._now:
            return None
        version = self.version_at(self._now - 1)
        self._now -= 1
        self._turn_back(self._now)
        self._moving -= self._edits[self._now].moves
        self.revision += 1
        self._keep(self._now, version)
        return self._edits[self._now]

    def redo(self) -> Edit | None:
        """Go forward one step and return the edit brought back, or None at the newest."""
        if self._now == len(self._edits):
            return None
        version = self.version_at(self._now + 1)
        self._now += 1
        self._turn(self._turns[self._now - 1], self._edits[self._now - 1].marks)
        self._moving += self._edits[self._now - 1].moves
        self.revision += 1
        self._keep(self._now, version)
        return self._edits[self._now - 1]

    def version_at(self, number: int) -> Version:
        """Return the version after so many edits, quickest near one that is at hand."""
        at = min(self._versions, key=lambda held: abs(held - number))
        version = self._versions[at]
        for edit in self._edits[at:number]:
            version = applied(version, edit.changes)
        for edit in reversed(self._edits[number:at]):
            version = applied(version, [change.inverse() for change in reversed(edit.changes)])
        return version

    def turns_of(self, number: int) -> tuple[Turn, ...]:
        """Return what the edit of this number, counted from 0, does to the ledger."""
        return self._turns[number]

    def _append(self, edit: Edit) -> None:
        turns = tuple(self._turns_for(edit))
        self._edits.append(edit)
        self._turns.append(turns)
        self._turn(turns, edit.marks)
        self._moving += edit.moves

    def _turns_for(self, edit: Edit) -> Iterable[Turn]:
        for mend_id in edit.lifted:
            yield Turn(self._entries[mend_id], None)
        for mend_id in edit.switched_off:
            before = self._entries[mend_id]
            yield Turn(before, replace(before, is_on=False))
        for at, (mend, (first, last)) in enumerate(zip(edit.made, edit.parts, strict=False)):
            number = int(mend.id.removeprefix(_ID_PREFIX))
            self._made = max(self._made, number)
            yield Turn(None, Entry(number, mend, True, edit.change_of(at), first, last))
        for mend_id, (first, last) in zip(edit.switched_on, edit.parts[len(edit.made) :], strict=True):
            before = self._entries[mend_id]
            yield Turn(before, replace(before, is_on=True, change=edit.changes[-1], first=first, last=last))

    def _turn(self, turns: tuple[Turn, ...], marks: Iterable[Mark]) -> None:
        for turn in turns:
            self._acting += _is_on(turn.after) - _is_on(turn.before)
            if turn.after is not None:
                self._entries[turn.after.mend.id] = turn.after
            elif turn.before is not None:
                del self._entries[turn.before.mend.id]
            self._rule(turn)
        if turns:
            self._ledger = None
        for mark in marks:
            if isinstance(mark, CourseTurn):
                self._course = mark.after
            elif isinstance(mark, StandingTurn):
                self._standing = mark.after
            elif isinstance(mark, NoteTurn):
                self._notes[mark.finding_id] = mark.after
                if not mark.after:
                    del self._notes[mark.finding_id]
            elif mark.after is not None:
                self._markers[mark.after.id] = mark.after
            elif mark.before is not None:
                self._markers.pop(mark.before.id, None)

    def _rule(self, turn: Turn) -> None:
        """Keep the ledger's lines in the order of their numbers."""
        lines, after = self._lines, turn.after
        if after is not None and (not lines or after.number > lines[-1].number):
            lines.append(after)
            return
        number = (after or turn.before).number  # type: ignore[union-attr]
        line = bisect_left(lines, number, key=lambda entry: entry.number)
        lines[line : line + (turn.before is not None)] = [after] if after is not None else []

    def _turn_back(self, number: int) -> None:
        turns = tuple(Turn(turn.after, turn.before) for turn in self._turns[number])
        self._turn(turns, [_reversed(mark) for mark in reversed(self._edits[number].marks)])

    def _keep(self, number: int, version: Version) -> None:
        self._versions[number] = version
        self._versions.move_to_end(number)
        while len(self._versions) > _VERSIONS_AT_HAND:
            self._versions.popitem(last=False)


def _reversed(mark: Mark) -> Mark:
    if isinstance(mark, CourseTurn):
        return CourseTurn(mark.after, mark.before)
    if isinstance(mark, StandingTurn):
        return StandingTurn(mark.after, mark.before)
    if isinstance(mark, NoteTurn):
        return NoteTurn(mark.finding_id, mark.after, mark.before)
    return MarkerTurn(mark.after, mark.before)


def _is_on(entry: Entry | None) -> bool:
    return entry is not None and entry.is_on
