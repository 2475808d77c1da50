"""Steps over several linked recordings: written for all of them at once, or for none."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

from umbrick.casebook.errors import CasebookError
from umbrick.casebook.shelf import Shelf
from umbrick.core.errors import UmbrickError
from umbrick.core.timeline.change import applied
from umbrick.core.timeline.history import Edit, History
from umbrick.core.timeline.version import Version


class Part(NamedTuple):
    """What a joint step does to one recording; ``version`` is the outcome, if it is known already."""

    shelf: Shelf
    history: History
    edit: Edit
    version: Version | None = None


class PartialStepError(UmbrickError):
    """A step was made in several recordings, and not all of them could take it back or bring it back."""


class Written(NamedTuple):
    """A part that is on the disk, and is to be pushed to its history."""

    history: History
    edit: Edit
    version: Version

    def push(self) -> Edit:
        """Apply it."""
        return self.history.push(self.edit, self.version)


def commit_together(parts: Sequence[Part]) -> list[Edit]:
    """Write edits of several recordings of one casebook in one transaction, then apply them; as below."""
    return [written.push() for written in write_together(parts)]


def write_together(parts: Sequence[Part]) -> list[Written]:
    """Write edits of several recordings of one casebook in one transaction, without applying them.

    Raises
    ------
    CasebookError
        If they could not be written; nothing has changed then in any of them.
    StaleEditError, LengthHeldError
        If one of them does not go with its recording as it is now; the same.
    """
    store = parts[0].shelf.store
    if any(part.shelf.store is not store for part in parts):
        raise CasebookError("Linked recordings must be in one casebook.", "Nothing was changed.")
    name = step_name(len(parts)) if len(parts) > 1 else ""
    admitted = [part.history.admitted(replace(part.edit, step=name)) for part in parts]
    with store.transaction():
        return [
            Written(
                part.history,
                *part.shelf.write(part.history, edit, part.version or applied(part.history.current, edit.changes)),
            )
            for part, edit in zip(parts, admitted, strict=True)
        ]


def step_together(recordings: Sequence[tuple[Shelf, History]], step: int) -> list[Edit]:
    """Take back (−1) or bring back (1) the next step of several recordings, in one transaction.

    It is the step that was made last of all, or is to come first; of a joint step all recordings take part. Nothing
    where there is none.

    Raises
    ------
    PartialStepError
        If a recording that the step was made in is not among these, or has been edited since.
    CasebookError, LengthHeldError
        If it could not be written, or would change a length that is held; nothing has changed then.
    """
    due = [(shelf, history, edit) for shelf, history in recordings if (edit := _next(history, step)) is not None]
    if not due:
        return []
    first = (max if step < 0 else min)(due, key=lambda one: one[2].made_at)
    taking = [one for one in due if first[2].step and one[2].step == first[2].step] or [first]
    if first[2].step and len(taking) != size_of(first[2].step):
        raise PartialStepError(
            "This step was made in several linked recordings, and not all of them are at it.",
            "Open all of them, and undo what was done in them since.",
        )
    with taking[0][0].store.transaction():
        for shelf, history, _ in taking:
            shelf.write_step(history, step)
    for _, history, _ in taking:
        if step < 0:
            history.undo()
        else:
            history.redo()
    return [edit for _, _, edit in taking]


def step_name(count: int) -> str:
    """Return a new name for a step over so many recordings."""
    return f"{secrets.token_hex(8)}:{count}"


def size_of(step: str) -> int:
    """Return over how many recordings a step was made."""
    _, _, count = step.rpartition(":")
    return int(count) if count.isdecimal() and len(count) < 6 else 0


def _next(history: History, step: int) -> Edit | None:
    if step < 0:
        return history.latest
    return history.all_edits[history.now] if history.now < len(history.all_edits) else None
