"""A casebook as a whole."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from umbrick.casebook.errors import DamagedCasebookError
from umbrick.casebook.limits import MOST_RECORDINGS
from umbrick.casebook.locating import absolute, relative
from umbrick.casebook.shelf import Reference, Shelf, add_recording
from umbrick.casebook.store import SUFFIX, Store
from umbrick.core.sound.recording import Recording
from umbrick.core.sound.sound_file import stamp_of


class Casebook:
    """An open casebook: the recordings in it, each on a :class:`Shelf`."""

    def __init__(self, store: Store) -> None:
        self.store = store

    @classmethod
    def create(cls, path: Path) -> Casebook:
        """Make a new casebook; CasebookError if it cannot be, or the file exists."""
        return cls(Store(path, create=True))

    @classmethod
    def open(cls, path: Path) -> Casebook:
        """Open a casebook.

        Raises
        ------
        CasebookInUseError
            If it is open in another window.
        DamagedCasebookError
            If it is no whole casebook; :func:`umbrick.casebook.recovery.recover` saves what can be saved.
        CasebookError
            If it cannot be opened or written, or is none.
        """
        return cls(Store(path))

    @property
    def path(self) -> Path:
        """The file."""
        return self.store.path

    def shelves(self) -> list[Shelf]:
        """Return the recordings' places, in the order in which they were opened."""
        rows = self.store.rows("SELECT id FROM recordings ORDER BY ordinal, id LIMIT ?", MOST_RECORDINGS + 1)
        if len(rows) > MOST_RECORDINGS:
            raise DamagedCasebookError(f"{self.path.name} names more recordings than a casebook may hold.")
        return [Shelf(self.store, number) for (number,) in rows]

    def shelf_of(self, path: Path, track: int | None = None) -> Shelf | None:
        """Return the place of the recording that belongs in this file, if it has one.

        Of a container's tracks it is that of the given number, or the first that was opened.
        """
        for shelf, reference in self.readable():
            if reference.home == path and (track is None or reference.track in (track, None)):
                return shelf
        return None

    def add(self, recording: Recording) -> Shelf:
        """Make a place for a recording that the person has opened."""
        return add_recording(self.store, recording)

    def is_worth_keeping(self) -> bool:
        """Whether anything was done that could not be had again by opening the recordings."""
        return any(shelf.is_worth_keeping() for shelf in self.shelves())

    def copy_to(self, path: Path) -> None:
        """Write the whole casebook under another name, which must be free; paths in it lead to the same files."""
        references = [(shelf.number, reference) for shelf, reference in self.readable()]
        self.store.copy_to(path)
        copy = Casebook.open(path)
        try:
            for number, reference in references:
                Shelf(copy.store, number).write_place(reference.path, reference.home, reference.is_own)
        finally:
            copy.close()

    def came_from(self, folder: Path) -> None:
        """Have paths that were written relative to another folder lead to the same files from here."""
        for number, path, home in self.store.rows("SELECT id, path, home FROM recordings"):
            self.store.write(
                "UPDATE recordings SET path = ?, home = ?, seal = '' WHERE id = ?",
                relative(absolute(path, folder), self.path.parent),
                relative(absolute(home, folder), self.path.parent) if home else "",
                number,
            )

    def readable(self) -> Iterator[tuple[Shelf, Reference]]:
        """Yield the recordings that can be made sense of: one bad entry is not to stand in the way of the others."""
        for shelf in self.shelves():
            try:
                yield shelf, shelf.reference()
            except DamagedCasebookError:
                continue

    def close(self) -> None:
        """Let go of the file."""
        self.store.close()

    def discard(self) -> None:
        """Close, and delete the file: only for casebooks that Umbrick made by itself."""
        self.store.discard()


def is_casebook(path: Path) -> bool:
    """Return whether a file claims to be a casebook, by its ending or its first bytes."""
    if stamp_of(path) is None:
        return False
    try:
        with path.open("rb") as file:
            head = file.read(72)
    except OSError:
        return path.suffix.lower() == SUFFIX
    return path.suffix.lower() == SUFFIX or (head[:16] == b"SQLite format 3\0" and head[68:72] == b"UMBR")
