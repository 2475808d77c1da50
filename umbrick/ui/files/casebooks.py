"""Keeping the bench's work: which casebook it is in, and what is written to it on the way."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from umbrick.casebook.casebook import Casebook
from umbrick.casebook.errors import CasebookError, CasebookInUseError, DamagedCasebookError
from umbrick.casebook.recovery import recover
from umbrick.casebook.unnamed import Left, adopted, create_unnamed, is_unnamed, left_behind, unnamed_folder
from umbrick.core.errors import UmbrickError
from umbrick.core.sound.identity import sha256_of
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.work.whereabouts import view_of
from umbrick.work.work import Work

_VIEW_DELAY_MS = 1500

CHECKED_AT_ONCE_BYTES = 64 * 2**20
"""Casebooks up to this size are checked through before they are worked with, larger ones behind it."""


class Casebooks(QObject):
    """Holds the casebook that the bench works in: an unnamed one until the person gives it a name."""

    changed = Signal()
    """Another casebook is in use, or it has a name now."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self._casebook: Casebook | None = None
        self._superseded: Path | None = None
        self._lock = threading.Lock()
        self._written: dict[int, object] = {}
        self._timer = QTimer(self, interval=_VIEW_DELAY_MS, singleShot=True)
        self._timer.timeout.connect(self._write_views_behind)
        for signal in (bench.view_changed, bench.place_changed, bench.focus_changed, bench.findings_changed):
            signal.connect(self._timer.start)

    @property
    def name(self) -> str:
        """The casebook's name, or nothing while it has none."""
        return "" if self._casebook is None or is_unnamed(self._casebook.path) else self._casebook.path.name

    @property
    def path(self) -> Path | None:
        """The casebook's file, if it has a name."""
        return self._casebook.path if self._casebook and self.name else None

    def casebook(self) -> Casebook:
        """Return the casebook in use, or a new unnamed one; any thread may ask.

        Raises
        ------
        CasebookError
            If Umbrick's own folder cannot be written to.
        """
        with self._lock:
            if self._casebook is None:
                self._casebook = create_unnamed()
            return self._casebook

    def use(self, casebook: Casebook) -> None:
        """Work in another casebook; the bench must be empty."""
        self.let_go()
        self._casebook = casebook
        self.changed.emit()

    def let_go(self) -> None:
        """Close the casebook; one that is unnamed and holds nothing worth keeping is deleted."""
        casebook, self._casebook = self._casebook, None
        self._written.clear()
        if casebook is None:
            return
        try:
            is_needed = casebook.path != self._superseded and casebook.is_worth_keeping()
            if is_unnamed(casebook.path) and not is_needed:
                casebook.discard()
            else:
                casebook.close()
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
        self.changed.emit()

    def write_views(self) -> None:
        """Write at once where one is looking in every recording."""
        self._bench.keep_sensitivity()
        self._timer.stop()
        for work in self._bench.works:
            try:
                self._write_view(work)
            except UmbrickError:
                return  # only where one was looking is lost by it, and the edit that fails next says why

    def learn_identity(self, work: Work) -> None:
        """Work out the SHA-256 of a recording's file in the background, once."""
        reference = work.shelf.reference()
        if reference.sha256:
            return
        path = work.recording.path

        def run(job: Job) -> None:
            digest = sha256_of(path, job.is_cancelled)
            if work.recording.source.is_unchanged() and not job.is_cancelled():
                work.shelf.write_sha256(digest)

        self._bench.jobs.start(f"naming {path.name}", run, lambda _: None)

    def save_as(self, path: Path, then: Callable[[Path, Callable[[], None]], None]) -> None:
        """Write the casebook under a name; ``then`` opens it there, and calls the function it is given afterwards.

        Edits wait until then. What had no name before is deleted when the named one is in use.
        """
        casebook = self.casebook()
        self.write_views()
        if reason := next((work.held for work in self._bench.works if work.held), ""):
            self._bench.failed.emit(reason)
            return
        lease = self._bench.leases.take("The casebook is being written; edits wait.")

        def saved(_: object) -> None:
            self._superseded = casebook.path
            then(path, lease.release)

        def failed(reason: str) -> None:
            lease.release()
            self._bench.failed.emit(reason)

        self._bench.jobs.start(f"writing {path.name}", lambda _: casebook.copy_to(path), saved, failed=failed)

    def look_for_work(self, found: Callable[[list[Left]], None]) -> None:
        """Look in the background for unnamed work that was left behind."""
        self._bench.jobs.start(
            "looking for unnamed work", lambda _: left_behind(), found, failed=self._bench.failed.emit
        )

    def forget(self, path: Path) -> None:
        """Delete an unnamed casebook for good."""
        try:
            Casebook.open(path).discard()
        except UmbrickError as error:
            self._bench.failed.emit(str(error))

    def close(self) -> None:
        """Write what is left to write, and close."""
        self.write_views()
        self.let_go()

    def _write_views_behind(self) -> None:
        works = [work for work in self._bench.works if self._written.get(id(work)) != _state_of(work)]
        if not works:
            return

        def run(_: Job) -> None:
            for work in works:
                self._write_view(work)

        # Only where one was looking is lost by it; the edit that fails next says why.
        self._bench.jobs.start("writing where one is looking", run, lambda _: None, failed=lambda _: None)

    def _write_view(self, work: Work) -> None:
        state = _state_of(work)
        if self._written.get(id(work)) != state:
            work.shelf.write_view(*state)
            self._written[id(work)] = state


def opened(path: Path) -> tuple[Casebook, str]:
    """Open a casebook, or what can be saved of it; with a sentence that says what could not be, or nothing.

    Raises
    ------
    CasebookError
        If nothing can be opened.
    """
    try:
        casebook = Casebook.open(path)
    except DamagedCasebookError as error:
        return _saved_from(path, error)
    except CasebookInUseError:
        raise
    except CasebookError:
        if os.access(path, os.W_OK) and os.access(path.parent, os.W_OK):
            raise
        told = f"{path.name} may not be written to where it is: this is a copy. Keep it under a name elsewhere."
        return adopted(path), told
    complaints = casebook.store.complaints() if path.stat().st_size < CHECKED_AT_ONCE_BYTES else []
    if complaints:
        casebook.close()
        return _saved_from(path, DamagedCasebookError(f"The casebook {path.name} is damaged: {complaints[0]}."))
    return casebook, ""


def _saved_from(path: Path, error: DamagedCasebookError) -> tuple[Casebook, str]:
    folder = path.parent
    try:
        saved, lost = recover(path, folder)
    except DamagedCasebookError:
        raise
    except (UmbrickError, OSError):
        unnamed_folder().mkdir(parents=True, exist_ok=True)
        saved, lost = recover(path, unnamed_folder())
    casebook = Casebook.open(saved)
    return casebook, f"{error.message} What could be saved is open as {saved.name}. {lost}".strip()


def _state_of(work: Work) -> tuple[dict[str, object], dict[str, float]]:
    return view_of(work), dict(work.sensitivity)
