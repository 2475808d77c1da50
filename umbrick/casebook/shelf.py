"""A recording's place in a casebook: its identity, its history, its findings, and where one was looking."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

from umbrick.casebook import edits, surveys
from umbrick.casebook.edits import Restored
from umbrick.casebook.errors import DamagedCasebookError
from umbrick.casebook.limits import JSON_LIMIT, LONGEST_PATH, MOST_FRAMES, loaded, names
from umbrick.casebook.locating import absolute, relative, stat_of
from umbrick.casebook.marks import STANDING
from umbrick.casebook.seal import is_sealed, seal_of
from umbrick.casebook.store import Store
from umbrick.casebook.surveys import Surveyed
from umbrick.core.linking.clock import Clock
from umbrick.core.sound.formats import HIGHEST_RATE, LOWEST_RATE, MOST_CHANNELS
from umbrick.core.sound.recording import Recording
from umbrick.core.sound.source import Source
from umbrick.core.timeline.change import applied
from umbrick.core.timeline.history import Edit, History
from umbrick.core.timeline.version import Version

SAVED_AT = "saved_at"
"""In a view: how many edits acted when a file held all of them, if one did."""


@dataclass(frozen=True, slots=True)
class Reference:
    """What a casebook says of a recording.

    ``path`` is the file with its sound, ``home`` the one it belongs in: the same, until mended sound is put in its
    place and the old file is kept elsewhere. ``is_own`` tells whether this machine's person opened ``home`` themselves,
    so that it may be replaced. ``bytes`` and ``modified_ns`` are the file's as last seen, ``home_stamp`` those of what
    was put in place; ``sha256`` is empty until it is known. ``now`` counts the edits that act; ``saved`` is the key of
    the version written to a file last.
    """

    path: Path
    home: Path
    home_stamp: tuple[int, int]
    is_own: bool
    bytes: int
    modified_ns: int
    sha256: str
    container: str
    subtype: str
    rate: int
    channels: int
    frames: int
    is_on_bench: bool
    now: int
    saved: str
    view: dict[str, Any]
    sensitivity: dict[str, float]
    track: int | None = None
    """Which sound track of a container."""


class Link(NamedTuple):
    """Which set a recording is a lane of, and how it lies there."""

    number: int
    clock: Clock


class Shelf:
    """One recording in a casebook. What its methods write is on the disk when they return.

    All of them raise CasebookError if it cannot be written; nothing has changed then.
    """

    def __init__(self, store: Store, number: int) -> None:
        self.store = store
        self.number = number

    def reference(self) -> Reference:
        """Return what the casebook says of the recording.

        Raises
        ------
        DamagedCasebookError
            If that makes no sense.
        """
        row = self.store.row(
            "SELECT path, home, home_bytes, home_modified_ns, seal, bytes, modified_ns, sha256, container, subtype,"
            " rate, channels, frames, on_bench, now, saved, track, view, sensitivity FROM recordings WHERE id = ?",
            self.number,
        )
        if row is None:
            raise DamagedCasebookError("A recording is missing from the casebook.")
        path, home, home_bytes, home_modified, seal, *rest, view, sensitivities = row
        size, modified, sha256, container, subtype, rate, count, frames, on_bench, now, saved, track = rest
        if not (LOWEST_RATE <= rate <= HIGHEST_RATE and 0 < count <= MOST_CHANNELS and 0 <= frames <= MOST_FRAMES):
            raise DamagedCasebookError("A recording's format makes no sense.")
        if not path or "\0" in path + home or max(len(path), len(home)) > LONGEST_PATH:
            raise DamagedCasebookError("A recording has no usable path.")
        folder = self.store.path.parent
        place = absolute(home or path, folder)
        sensitivity = {
            name: float(value)
            for name, value in loaded(sensitivities, dict).items()
            if isinstance(value, int | float) and 0 <= value <= 1
        }
        return Reference(
            absolute(path, folder),
            place,
            (home_bytes, home_modified),
            is_sealed(seal, self.store.id, place),
            size,
            modified,
            sha256,
            container,
            subtype,
            rate,
            count,
            frames,
            bool(on_bench),
            now,
            saved,
            loaded(view, dict, JSON_LIMIT),
            sensitivity,
            track if track >= 0 else None,
        )

    def history(self, source: Source) -> Restored:
        """Return the history of edits on the recording, which ``source`` reads."""
        row = self.store.row("SELECT now, revision, holds_length FROM recordings WHERE id = ?", self.number)
        now, revision, holds_length = row if row else (0, 0, 0)
        restored = edits.read_history(self.store, self.number, source, now, revision)
        restored.history.holds_length = bool(holds_length)
        return restored

    def commit(self, history: History, edit: Edit, version: Version | None = None) -> Edit:
        """Write an edit, then apply it; ``version`` is the outcome, if it is known already."""
        edit = history.admitted(edit)
        return history.push(*self.write(history, edit, version or applied(history.current, edit.changes)))

    def write(self, history: History, edit: Edit, version: Version) -> tuple[Edit, Version]:
        """Write an admitted edit without applying it; return what is to be pushed to the history then."""
        return edits.write_edit(self.store, self.number, history, edit, version)

    def link(self, rate: int) -> Link | None:
        """Return which set a recording of this rate is a lane of; None if it is none, or that makes no sense."""
        row = self.store.row(
            "SELECT linked, offset_frames, drift_ppm, link_confidence FROM recordings WHERE id = ?", self.number
        )
        if row is None or row[0] <= 0 or not all(math.isfinite(value) for value in row[1:]):
            return None
        number, offset, drift, confidence = row
        return Link(number, Clock(rate, offset, drift, confidence))

    def write_link(self, link: Link | None) -> None:
        """Write which set the recording is a lane of, or that it is none any more."""
        number, clock = link or Link(0, Clock(1))
        self._set(
            "linked = ?, offset_frames = ?, drift_ppm = ?, link_confidence = ?",
            number, clock.offset_frames, clock.drift_ppm, clock.confidence,
        )  # fmt: skip

    def write_holds_length(self, history: History, holds: bool) -> None:
        """Write whether nothing may change the length, and have it so."""
        self._set("holds_length = ?", int(holds))
        history.holds_length = holds

    def undo(self, history: History) -> Edit | None:
        """Go back one step, and return the edit taken back; None at the original."""
        return self._step(history, -1)

    def redo(self, history: History) -> Edit | None:
        """Go forward one step, and return the edit brought back; None at the newest."""
        return self._step(history, 1)

    def survey(self, frames: int) -> Surveyed | None:
        """Return the last survey of a recording of so many frames; DamagedCasebookError if it makes no sense."""
        return surveys.read_survey(self.store, self.number, self.reference().channels, frames)

    def write_survey(self, surveyed: Surveyed) -> None:
        """Write a survey; may take a while, and lets edits be written in between."""
        surveys.write_survey(self.store, self.number, surveyed)

    def closed(self) -> tuple[str, frozenset[str]]:
        """Return the key of the version that was measured again last, and which findings other mends closed in it."""
        row = self.store.row("SELECT version, findings FROM closed WHERE recording = ?", self.number)
        return ("", frozenset()) if row is None else (row[0], frozenset(names(row[1])))

    def write_closed(self, version: str, findings: frozenset[str]) -> None:
        """Write which findings other mends closed in a version, as measured again."""
        self.store.write("REPLACE INTO closed VALUES (?, ?, ?)", self.number, version, json.dumps(sorted(findings)))

    def write_view(self, view: dict[str, Any], sensitivity: dict[str, float]) -> None:
        """Write where one was looking, and the sensitivities set."""
        finite = {name: value for name, value in sensitivity.items() if math.isfinite(value)}
        self._set("view = ?, sensitivity = ?", json.dumps(view), json.dumps(finite))

    def write_saved(self, key: str) -> None:
        """Write which version a file holds now."""
        self._set("saved = ?", key)

    def write_sha256(self, digest: str) -> None:
        """Write the SHA-256 of the recording's file."""
        self._set("sha256 = ?", digest)

    def write_on_bench(self, is_on_bench: bool) -> None:
        """Write whether the recording is on the bench; its work stays in either case."""
        self._set("on_bench = ?", int(is_on_bench))

    def relink(self, path: Path) -> None:
        """Write that the recording's file is another one, of the same content, which the person has named."""
        self.write_place(path, path, is_own=True)
        self.write_stamp(path)

    def write_place(self, path: Path, home: Path, is_own: bool) -> None:
        """Write where the recording's sound is, where it belongs, and whether the person opened it there."""
        folder = self.store.path.parent
        self._set(
            "path = ?, home = ?, seal = ?, home_bytes = ?, home_modified_ns = ?",
            relative(path, folder),
            relative(home, folder) if home != path else "",
            seal_of(self.store.id, home) if is_own else "",
            *(stat_of(home) if home != path else (0, 0)),
        )

    def write_lost(self) -> None:
        """Write that the recording's file holds something else now: its path leads nowhere from here on."""
        self._set("path = path || ' (written over)', home = '', seal = '', on_bench = 0")

    def write_stamp(self, path: Path) -> None:
        """Write size and time of the recording's file as they are now."""
        self._set("bytes = ?, modified_ns = ?", *stat_of(path))

    def is_on_bench(self) -> bool:
        """Whether the recording is to be shown when the casebook is opened."""
        row = self.store.row("SELECT on_bench FROM recordings WHERE id = ?", self.number)
        return bool(row and row[0])

    def is_worth_keeping(self) -> bool:
        """Whether anything was done with the recording that could not be had again by opening it."""
        only_settled = f'[["{STANDING}"%'  # moving a slider alone is nothing to be offered back
        done = "SELECT 1 FROM edits WHERE recording = ? AND marks NOT LIKE ? LIMIT 1"
        return self.store.row(done, self.number, only_settled) is not None

    def _step(self, history: History, step: int) -> Edit | None:
        now = history.now + step
        if not 0 <= now <= len(history.all_edits):
            return None
        self.write_step(history, step)
        return history.undo() if step < 0 else history.redo()

    def write_step(self, history: History, step: int) -> None:
        """Write that the history goes back (−1) or forward (1) by one step, which there must be, without doing it."""
        now = history.now + step
        version = history.version_at(now)
        history.check_length(version.frames - history.current.frames)
        with self.store.transaction() as connection:
            edits.claim(connection, self.number, history.revision)
            id_of = edits.stored_id(history.original.sources[0])
            edits.write_now(connection, self.number, now, version, id_of)

    def _set(self, what: str, *values: Any) -> None:
        self.store.write(f"UPDATE recordings SET {what} WHERE id = ?", *values, self.number)


def add_recording(store: Store, recording: Recording) -> Shelf:
    """Make a place for a recording that the person has opened."""
    source = recording.source
    size, modified = stat_of(recording.path)
    with store.transaction() as connection:
        number = connection.execute(
            "INSERT INTO recordings (ordinal, path, seal, bytes, modified_ns, container, subtype, rate, channels,"
            " frames, track) VALUES ((SELECT coalesce(max(ordinal), 0) + 1 FROM recordings),"
            " ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                relative(recording.path, store.path.parent),
                seal_of(store.id, recording.path),
                size,
                modified,
                recording.format.container,
                recording.format.subtype,
                source.rate,
                source.channels,
                source.frames,
                -1 if recording.track is None else recording.track.number,
            ),
        ).lastrowid
    assert number is not None
    return Shelf(store, number)
