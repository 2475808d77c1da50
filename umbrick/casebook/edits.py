"""Edits in the casebook: written one transaction each, read back as a history."""

from __future__ import annotations

import gc
import json
import re
import sqlite3
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from umbrick.casebook.errors import CasebookError, DamagedCasebookError
from umbrick.casebook.limits import JSON_LIMIT, LONGEST_NAME, MOST_EDITS, MOST_FRAMES, channels, loaded, names
from umbrick.casebook.marks import pack_marks, unpack_marks, write_profiles
from umbrick.casebook.packing import (
    RECORDING,
    Unpacked,
    pack_integers,
    pack_runs,
    unpack_changes,
    unpack_integers,
    unpack_runs,
)
from umbrick.casebook.patches import Stored, StoredFile, StoredPatch, needs_double, write_chunks
from umbrick.casebook.store import SETTLED_NAME, Store
from umbrick.core.course.frozen import FrozenSource
from umbrick.core.sound.source import Source
from umbrick.core.timeline.change import Change
from umbrick.core.timeline.history import SETTLE, Edit, History, Mend
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.runs import Runs
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_count

_SNAPSHOT_EVERY = 64
"""Edits after which the version is written down whole, so that opening need not apply all of them again."""


_NO_NAMES = "[]"

_MEND_ID = re.compile(r"m[1-9][0-9]{0,11}")


class Restored(NamedTuple):
    """A history as read back; ``lost`` says in one sentence what could not be, or is empty."""

    history: History
    lost: str


def write_edit(store: Store, recording: int, history: History, edit: Edit, version: Version) -> tuple[Edit, Version]:
    """Write an edit that is to follow the current version, in place of those that were undone.

    Parameters
    ----------
    store : Store
    recording : int
        Its id in the casebook.
    history : History
        Without the edit.
    edit : Edit
        As admitted by the history.
    version : Version
        What it leads to.

    Returns
    -------
    Edit, Version
        The same, reading their samples from the casebook.

    Raises
    ------
    CasebookError
        If it cannot be written; nothing has changed then.
    """
    number = history.now
    original = history.original.sources[0]
    stored: dict[int, Source] = {}

    number_of = stored_id(original)

    def id_of(source: Source) -> int:
        return number_of(stored.get(id(source), source))

    with store.transaction() as connection:
        claim(connection, recording, history.revision)
        # Detached, not deleted: what was copied from an undone version still reads its patches.
        connection.execute("UPDATE patches SET edit = NULL WHERE recording = ? AND edit >= ?", (recording, number))
        connection.execute("DELETE FROM edits WHERE recording = ? AND number >= ?", (recording, number))
        connection.execute("DELETE FROM snapshots WHERE recording = ? AND edit > ?", (recording, number))
        ids = [edit.switched_on, edit.switched_off, edit.lifted, edit.kept]
        parts = pack_integers(np.array(edit.parts, np.int64).ravel())
        owners = pack_integers(np.array(edit.owners, np.int64))
        connection.execute(
            "INSERT INTO edits (recording, number, title, made_at, ids, parts, marks, owners, step)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                recording,
                number,
                edit.title,
                edit.made_at,
                json.dumps(ids),
                parts,
                pack_marks(edit.marks),
                owners,
                edit.step,
            ),
        )
        write_profiles(connection, recording, edit.marks)
        for change in edit.changes:
            for source in change.inserted.sources:
                if source is not original and not isinstance(source, Stored) and id(source) not in stored:
                    stored[id(source)] = _write_patch(connection, store, recording, number, source)
        connection.executemany(
            "INSERT INTO changes VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            [
                (
                    recording,
                    number,
                    position,
                    pack_integers(change.starts),
                    pack_runs(change.removed, id_of),
                    pack_runs(change.inserted, id_of),
                    pack_runs(change.left, id_of),
                    pack_runs(change.right, id_of),
                )
                for position, change in enumerate(edit.changes)
            ],
        )
        connection.executemany(
            "INSERT INTO mends VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            [(recording, number, position, *_mend_row(mend)) for position, mend in enumerate(edit.made)],
        )
        edit = replace(edit, changes=tuple(_change_from(change, stored) for change in edit.changes))
        version = version.exchanged(stored)
        write_now(connection, recording, number + 1, version, id_of)
    return edit, version


def claim(connection: sqlite3.Connection, recording: int, revision: int) -> None:
    """Count a history's next revision on; CasebookError unless it is at the given one.

    Two windows or jobs that read the same history would otherwise each write over what the other has done.
    """
    counted = connection.execute(
        "UPDATE recordings SET revision = revision + 1 WHERE id = ? AND revision = ?", (recording, revision)
    )
    if counted.rowcount != 1:
        raise CasebookError(
            "The recording was edited from elsewhere meanwhile.", "Nothing was written; close it and open it again."
        )


def write_now(
    connection: sqlite3.Connection, recording: int, now: int, version: Version, id_of: Callable[[Source], int]
) -> None:
    """Write how many edits act, and the version itself now and then."""
    connection.execute("UPDATE recordings SET now = ? WHERE id = ?", (now, recording))
    row = connection.execute("SELECT edit FROM snapshots WHERE recording = ?", (recording,)).fetchone()
    held = row[0] if row else 0
    if abs(now - held) >= _SNAPSHOT_EVERY:
        run = pack_runs(version.cut([0], [version.frames]), id_of)
        connection.execute("REPLACE INTO snapshots VALUES (?, ?, ?)", (recording, now, run))


def stored_id(original: Source) -> Callable[[Source], int]:
    """Return the function that gives a stored source's number."""
    return lambda source: RECORDING if source is original else source.number  # type: ignore[attr-defined]


def read_history(store: Store, recording: int, source: Source, now: int, revision: int) -> Restored:
    """Return a recording's history.

    Everything is checked; at the first edit that makes no sense, it and those after it are left out.
    """
    # Hundreds of thousands of small objects come, and all stay: looking for rubbish among them takes half the time.
    collects = gc.isenabled()
    gc.disable()
    try:
        return _read_history(store, recording, source, now, revision)
    finally:
        if collects:
            gc.enable()


def _read_history(store: Store, recording: int, source: Source, now: int, revision: int) -> Restored:
    original = Version.of(source)
    edits: list[Edit] = []
    ledger = _Ids()
    frames = [original.frames]
    lost = ""
    sources: dict[int, Source] = {}
    try:
        sources = _patches(store, recording, source)
        for edit, changes in _edits(store, recording, sources):
            ledger.check(edit)
            frames.append(_frames_after(changes, frames[-1]))
            edits.append(edit)
    except DamagedCasebookError as error:
        lost = str(error)
    if not lost and (
        missing := [one for one in sources.values() if isinstance(one, StoredFile) and not one.is_intact()]
    ):
        lost = f"{format_count(len(missing), 'file')} of settled sound cannot be read in {store.settled_folder}."
        return Restored(History.rebuilt(original, edits, min(max(0, now), len(edits)), 0, original, revision), lost)
    total = store.row("SELECT count(*) FROM edits WHERE recording = ?", recording)
    if lost and total:
        lost = f"{total[0] - len(edits)} of {total[0]} steps could not be read: {lost}"
    now = min(max(0, now), len(edits))
    try:
        at, version = _snapshot(store, recording, sources, original, frames)
    except DamagedCasebookError:
        at, version = 0, original  # only a short cut; the edits alone lead to the same
    return Restored(History.rebuilt(original, edits, now, at, version, revision), lost)


def _write_patch(
    connection: sqlite3.Connection, store: Store, recording: int, edit: int, source: Source
) -> StoredPatch | StoredFile:
    if isinstance(source, FrozenSource):
        row = connection.execute(
            "INSERT INTO patches (recording, edit, key, nature, frames, is_double, file) VALUES (?, ?, ?, ?, ?, 0, ?)",
            (recording, edit, source.key, source.nature.value, source.frames, source.path.name),
        )
        assert row.lastrowid is not None
        return StoredFile(row.lastrowid, source.path, source.rate, source.channels, source.frames)
    is_double = needs_double(source)
    nature: Nature = getattr(source, "nature", Nature.REBUILT)
    donor: int | None = getattr(source, "donor", None)
    number = connection.execute(
        "INSERT INTO patches (recording, edit, key, nature, donor, frames, is_double) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (recording, edit, source.key, nature.value, donor, source.frames, int(is_double)),
    ).lastrowid
    assert number is not None
    write_chunks(connection, number, source, is_double)
    # A patch that was rolled back leaves its number free for another one.
    store.reader.forget(number)
    return StoredPatch(
        store.reader, number, source.key, source.rate, source.channels, source.frames, is_double, nature, donor
    )


def _mend_row(mend: Mend) -> tuple[Any, ...]:
    return (
        mend.id,
        mend.method,
        mend.start,
        mend.stop,
        json.dumps(mend.channels),
        json.dumps(mend.parameters),
        mend.seam_score,
        mend.time_shift,
        json.dumps(mend.finding_ids),
        json.dumps(mend.reopened_ids),
        mend.program,
    )


def _sources_from(sources: tuple[Source, ...], stored: Mapping[int, Source]) -> tuple[Source, ...]:
    return tuple(stored.get(id(source), source) for source in sources)


def _change_from(change: Change, stored: Mapping[int, Source]) -> Change:
    def runs(held: Runs) -> Runs:
        return replace(held, sources=_sources_from(held.sources, stored))

    return Change(change.starts, runs(change.removed), runs(change.inserted), runs(change.left), runs(change.right))


def _patches(store: Store, recording: int, source: Source) -> dict[int, Source]:
    found: dict[int, Source] = {RECORDING: source}
    for number, key, nature, donor, frames, is_double, file in store.rows(
        "SELECT id, key, nature, donor, frames, is_double, file FROM patches WHERE recording = ? AND edit IS NOT NULL",
        recording,
    ):
        try:
            kind = Nature(nature)
        except ValueError as error:
            raise DamagedCasebookError(f"There is no kind of patch “{nature}”.") from error
        if not 0 <= frames <= MOST_FRAMES or number <= RECORDING or not (donor is None or 0 <= donor <= MOST_FRAMES):
            raise DamagedCasebookError("A patch has no length.")
        if file:
            if not SETTLED_NAME.fullmatch(file):
                raise DamagedCasebookError("Settled sound has another name than such a file has.")
            found[number] = StoredFile(number, store.settled_folder / file, source.rate, source.channels, frames)
            continue
        found[number] = StoredPatch(
            store.reader, number, key, source.rate, source.channels, frames, bool(is_double), kind, donor
        )
    return found


def _edits(store: Store, recording: int, sources: Mapping[int, Source]) -> Iterator[tuple[Edit, list[Unpacked]]]:
    """Yield the edits in order, each with its changes; stop with DamagedCasebookError at the first broken one."""
    packed = store.rows(
        "SELECT edit, starts, removed, inserted, before, after FROM changes WHERE recording = ? ORDER BY edit, number",
        recording,
    )
    changes: dict[int, list[Unpacked | DamagedCasebookError]] = defaultdict(list)
    for (edit, *_), change in zip(packed, unpack_changes([row[1:] for row in packed], sources), strict=True):
        changes[edit].append(change)
    mends: dict[int, list[tuple[Any, ...]]] = defaultdict(list)
    for edit, *row in store.rows(
        "SELECT edit, id, method, start, stop, channels, parameters, seam_score, time_shift, findings, reopened,"
        " program FROM mends WHERE recording = ? ORDER BY edit, number",
        recording,
    ):
        mends[edit].append(tuple(row))
    rows = store.rows(
        "SELECT number, title, made_at, ids, parts, marks, owners, step FROM edits WHERE recording = ?"
        " ORDER BY number LIMIT ?",
        recording,
        MOST_EDITS,
    )
    recorded = sources[RECORDING]
    reading, profiles = _Texts(recorded.channels), _profiles(store, recording)
    for index, (number, title, made_at, ids, parts, marks, owners, step) in enumerate(rows):
        if number != index:
            raise DamagedCasebookError("A step is missing.")
        own = []
        for change in changes[number]:
            if isinstance(change, DamagedCasebookError):
                raise change
            own.append(change)
        bounds = unpack_integers(parts).tolist()
        made = tuple(reading.mend(row, made_at) for row in mends[number])
        pairs = tuple(zip(bounds[::2], bounds[1::2], strict=False))
        on, off, lifted, kept = reading.ids(ids)
        marked = () if marks == _NO_NAMES else unpack_marks(marks, recorded.frames, recorded.channels, profiles)
        held = tuple(one.change for one in own), made, pairs, on, off, lifted, kept, made_at, marked
        if len(step) > LONGEST_NAME:
            raise DamagedCasebookError("A step has no usable name.")
        yield Edit(title, *held, owners=tuple(unpack_integers(owners).tolist()), step=step), own


def _profiles(store: Store, recording: int) -> dict[str, dict[str, Any]]:
    """Return what steps of the course have learned, by its name."""
    rows = store.rows("SELECT key, profile FROM profiles WHERE recording = ? LIMIT ?", recording, MOST_EDITS)
    return {key: loaded(profile, dict) for key, profile in rows}


class _Texts:
    """Reads the JSON of edits; most of it is the same again and again."""

    def __init__(self, channels: int) -> None:
        self._channels = channels
        self._on: dict[str, tuple[int, ...]] = {}
        self._parameters: dict[str, dict[str, Any]] = {}
        self._ids: dict[str, tuple[tuple[str, ...], ...]] = {}

    def ids(self, text: str) -> tuple[tuple[str, ...], ...]:
        """Return the four lists of names of an edit."""
        if text not in self._ids:
            lists = loaded(text, list, JSON_LIMIT)
            if len(lists) != 4 or not all(isinstance(part, list) for part in lists):
                raise DamagedCasebookError("A step does not say what it did.")
            found = tuple(names(json.dumps(part)) for part in lists)
            if any(found):
                return found
            self._ids[text] = found
        return self._ids[text]

    def mend(self, row: tuple[Any, ...], made_at: float) -> Mend:
        """Return a mend; DamagedCasebookError if it makes no sense."""
        name, method, start, stop, on, parameters, score, shift, findings, reopened, program = row
        if not (0 <= start <= stop <= MOST_FRAMES and abs(shift) <= MOST_FRAMES) or len(method) > LONGEST_NAME:
            raise DamagedCasebookError("A mend makes no sense.")
        if not (score is None or 0 <= score <= 1):
            raise DamagedCasebookError("A seam score makes no sense.")
        if method == SETTLE and not _is_settling(loaded(parameters, dict)):
            raise DamagedCasebookError("A settled stretch makes no sense.")
        if on not in self._on:
            self._on[on] = channels(on, self._channels)
        if parameters not in self._parameters:
            self._parameters[parameters] = loaded(parameters, dict)
        return Mend(
            method,
            start,
            stop,
            self._on[on],
            self._parameters[parameters],
            score,
            shift,
            () if findings == _NO_NAMES else names(findings),
            () if reopened == _NO_NAMES else names(reopened),
            name,
            made_at,
            program,
        )


def _is_settling(parameters: dict[str, Any]) -> bool:
    spans, steps = parameters.get("spans"), parameters.get("steps")
    are_names = isinstance(steps, list) and all(isinstance(name, str) for name in steps)
    return are_names and isinstance(spans, list) and all(_is_span(span) for span in spans)


def _is_span(span: object) -> bool:
    if not (isinstance(span, list) and len(span) == 2 and all(type(at) is int for at in span)):
        return False
    return bool(0 <= span[0] <= span[1] <= MOST_FRAMES)


class _Ids:
    """Follows which mends the ledger has, so that no edit names one that it has not."""

    def __init__(self) -> None:
        self._on: dict[str, bool] = {}
        self._made: set[str] = set()

    def check(self, edit: Edit) -> None:
        """Raise DamagedCasebookError unless the edit can follow those checked before."""
        if len(edit.parts) != len(edit.made) + len(edit.switched_on):
            raise DamagedCasebookError("A step's parts do not fit its mends.")
        if edit.parts and not edit.changes:
            raise DamagedCasebookError("A step names mends but changes nothing.")
        owners = edit.owners or (len(edit.changes) - 1,) * len(edit.made)
        if len(owners) != len(edit.made) or not all(0 <= owner < len(edit.changes) for owner in owners):
            raise DamagedCasebookError("A step's mends are of changes that it does not make.")
        lengths = [len(edit.changes[owner]) for owner in owners]
        lengths += [len(edit.changes[-1])] * len(edit.switched_on) if edit.changes else []
        if not all(0 <= first <= last <= length for (first, last), length in zip(edit.parts, lengths, strict=True)):
            raise DamagedCasebookError("A step's parts do not fit its mends.")
        for mend in edit.made:
            if mend.id in self._made or not _MEND_ID.fullmatch(mend.id):
                raise DamagedCasebookError("A mend has no name of its own.")
        if edit.lifted or edit.switched_off or edit.switched_on:
            self._turn(edit)
        for mend in edit.made:
            self._made.add(mend.id)
            self._on[mend.id] = True

    def _turn(self, edit: Edit) -> None:
        wanted: list[tuple[str, bool | None]] = [(name, None) for name in edit.lifted]
        wanted += [(name, True) for name in edit.switched_off]
        wanted += [(name, False) for name in edit.switched_on]
        if len({name for name, _ in wanted}) != len(wanted) or not all(
            name in self._on and (state is None or self._on[name] is state) for name, state in wanted
        ):
            raise DamagedCasebookError("A step names a mend that is not there.")
        for name in edit.lifted:
            del self._on[name]
        for name in edit.switched_off:
            self._on[name] = False
        for name in edit.switched_on:
            self._on[name] = True


def _frames_after(changes: list[Unpacked], frames: int) -> int:
    """Return the length after changes; DamagedCasebookError if one reaches outside the length before it."""
    for _, reach, time_shift in changes:
        if reach > frames:
            raise DamagedCasebookError("A step reaches past the end of the recording.")
        frames += time_shift
    return frames


def _snapshot(
    store: Store, recording: int, sources: Mapping[int, Source], original: Version, frames: list[int]
) -> tuple[int, Version]:
    row = store.row("SELECT edit, run FROM snapshots WHERE recording = ?", recording)
    if row is None or not 0 <= row[0] < len(frames):
        return 0, original
    run = unpack_runs(row[1], sources)
    if len(run) != 1 or int(run.frames[0]) != frames[row[0]]:
        raise DamagedCasebookError("A version does not have the length its steps lead to.")
    named = original.sources[0]
    if named not in run.sources:
        run = replace(run, sources=(*run.sources, named))
    return row[0], Version.from_run(original.rate, original.channels, run)
