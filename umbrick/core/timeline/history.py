"""The versions of a recording in the order they were made, and the edits that made them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from umbrick.core.timeline.version import Version


@dataclass(frozen=True, slots=True)
class Mend:
    """One applied repair: what was done, where (in frames of the version it was made on), and how.

    ``seam_score`` is None for methods that are not scored; ``time_shift`` is the change of length in frames.
    """

    method: str
    start: int
    stop: int
    channels: tuple[int, ...]
    parameters: dict[str, Any]
    seam_score: float | None = None
    time_shift: int = 0
    finding_ids: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Edit:
    """One step of the history, undone and redone as a whole.

    ``kept`` names findings that were left as they are, on purpose; the version is then the same as before.
    """

    title: str
    mends: tuple[Mend, ...] = ()
    kept: tuple[str, ...] = ()


@dataclass
class History:
    """Every version since the recording was opened; undo and redo choose among them.

    A new edit drops the versions that were undone before it.
    """

    original: Version
    _versions: list[Version] = field(init=False)
    _edits: list[Edit] = field(init=False, default_factory=list)
    _now: int = field(init=False, default=0)

    def __post_init__(self) -> None:
        self._versions = [self.original]

    @property
    def current(self) -> Version:
        """The version that is worked on."""
        return self._versions[self._now]

    @property
    def edits(self) -> tuple[Edit, ...]:
        """The edits that lead from the original to the current version."""
        return tuple(self._edits[: self._now])

    @property
    def latest(self) -> Edit | None:
        """The edit that made the current version, or None at the original."""
        return self._edits[self._now - 1] if self._now else None

    @property
    def mends(self) -> tuple[Mend, ...]:
        """Every mend in the current version, oldest first."""
        return tuple(mend for edit in self.edits for mend in edit.mends)

    @property
    def undo_title(self) -> str | None:
        """What undo would take back, or None."""
        return self._edits[self._now - 1].title if self._now else None

    @property
    def redo_title(self) -> str | None:
        """What redo would bring back, or None."""
        return self._edits[self._now].title if self._now < len(self._edits) else None

    def push(self, edit: Edit, version: Version) -> None:
        """Make ``version`` the current one."""
        del self._edits[self._now :], self._versions[self._now + 1 :]
        self._edits.append(edit)
        self._versions.append(version)
        self._now += 1

    def undo(self) -> Edit | None:
        """Go back one step and return the edit taken back, or None at the original."""
        if not self._now:
            return None
        self._now -= 1
        return self._edits[self._now]

    def redo(self) -> Edit | None:
        """Go forward one step and return the edit brought back, or None at the newest."""
        if self._now == len(self._edits):
            return None
        self._now += 1
        return self._edits[self._now - 1]
