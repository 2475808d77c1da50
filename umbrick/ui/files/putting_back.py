"""Putting mended sound back in place of the file it came from, and bringing the old file back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from umbrick.casebook.locating import stat_of
from umbrick.core.errors import UmbrickError
from umbrick.core.sound.content import Fate
from umbrick.core.sound.formats import change_of_form
from umbrick.core.sound.kept_originals import Kept, bring_back, free_name, kept_folder, write_down
from umbrick.core.sound.saving import Saved, format_for
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_lowering
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.ui.files.casebooks import Casebooks
from umbrick.ui.files.opening import Opening
from umbrick.ui.files.saving import Order, Saving, note_saved
from umbrick.work.work import Work

_LOOK_EVERY_MS = 2000


class PuttingBack(QObject):
    """Replaces recordings' files in one step each, keeps the old ones, and notices when others change them."""

    put_back_done = Signal()

    def __init__(self, bench: Bench, casebooks: Casebooks, opening: Opening, saving: Saving) -> None:
        super().__init__(bench)
        self._bench = bench
        self._casebooks = casebooks
        self._opening = opening
        self._saving = saving
        self._told: set[tuple[Path, tuple[int, int]]] = set()
        self._timer = QTimer(self, interval=_LOOK_EVERY_MS)
        self._timer.timeout.connect(lambda: self.look())
        self._timer.start()

    def reason_against(self) -> str:
        """Return why nothing can be put back now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        if self._saving.job:
            return "A file is being written."
        if not work.has_unsaved_mends and work.home == work.recording.path:
            return "Nothing has been changed since the file was opened."
        return ""

    def put_back(self) -> None:
        """Put the current version in place of the recording's file; the old file is kept."""
        work = self._bench.work
        if work is None:
            return
        if self.look(again=True):
            return
        if work.home == work.recording.path and not work.home.exists():
            self._save_content(work, self.put_back)
            return
        if not work.is_own:
            self._ask_to_own(work)
            return
        try:
            form = format_for(work.home, work.recording.format)
        except UmbrickError as error:
            self._bench.failed.emit(f"{work.home.name} cannot be written in its own form. {error}")
            return
        version = work.outcome
        fits = form.is_fixed_point and bool(work.history.mend_count or work.history.course)
        is_first = work.home == work.recording.path
        keep_as = free_name(self._folder_for_kept(), work.home, "original") if not work.wrote_home else None

        def done(saved: Saved) -> None:
            self._put(work, version, saved, is_first)
            lowered = f", lowered by {format_lowering(saved.gain_db)} to fit" if saved.gain_db else ""
            kept = f" The old file is kept as {saved.kept.name}." if saved.kept else ""
            form_changed = change_of_form(work.recording.format, saved.format)
            told = (f"Put back in place{lowered}.{kept}", form_changed, saved.note)
            self._bench.said.emit(" ".join(filter(None, told)))
            self.put_back_done.emit()

        def on_kept() -> None:
            if keep_as:
                write_down(work.home, keep_as)

        self._saving.run(work, Order(work.home, form, overwrite=True, fits=fits), done, keep_as, on_kept)

    def bring_back(self) -> None:
        """Put the old file of the recording back in its place."""
        work = self._bench.work
        if work is None:
            return

        def done(brought: tuple[Kept, Path | None]) -> None:
            old, replaced = brought
            work.home_stamp = stat_of(work.home)
            work.wrote_home = True  # the old sound is kept as it was, and what stood there has just been kept too
            self._write_place(work)
            mended = f" The mended one is kept as {replaced}." if replaced else ""
            self._bench.said.emit(f"{work.home.name} is the old file again ({old.path.name}).{mended}")

        self._bench.jobs.start("bringing the old file back", lambda _: bring_back(work.home), done)

    def reason_not_to_bring_back(self) -> str:
        """Return why there is nothing to bring back, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        if work.home == work.recording.path:
            return "The file is the old one: nothing has been put in its place."
        return ""

    def close(self) -> None:
        """Stop looking."""
        self._timer.stop()

    def look(self, again: bool = False) -> bool:
        """Return whether another program has changed the current recording's file; if so, ask which to keep.

        It asks once for each change, or ``again`` if the person does what the question stands in the way of.
        """
        work = self._bench.work
        if work is None or self._saving.job or not work.home_stamp[1]:
            return False
        now = stat_of(work.home)
        if now == work.home_stamp or not now[1]:
            return False
        if again or (work.home, now) not in self._told:
            self._told.add((work.home, now))
            self._ask_which(work)
        return True

    def _ask_which(self, work: Work) -> None:
        name = work.home.name
        theirs = Choice("Take theirs", lambda: self._take_theirs(work))
        is_first = work.home == work.recording.path
        if is_first and work.recording.content.fate(work.home) is Fate.REWRITTEN:
            text = f"{name} was written over by another program: what your mends were made on is gone from it."
            keep = Choice("Keep the mends on it", lambda: self._accept_stamp(work))
        else:
            text = f"{name} was changed by another program. Nothing of yours is lost; which one is to stay?"
            keep = Choice("Keep mine", lambda: self._keep_mine(work))
        self._bench.noticed.emit(Notice(text, (keep, theirs)))

    def _keep_mine(self, work: Work) -> None:
        """Go on with the sound as it was opened; what the other program wrote is kept when it is replaced."""
        self._save_content(work, lambda: self._bench.said.emit("Yours stays; put it back when you are ready."))

    def _take_theirs(self, work: Work) -> None:
        """Open what the other program wrote; one's own work stays in the casebook, on a copy of the old sound."""

        def reopen() -> None:
            home = work.home
            try:
                work.shelf.write_place(work.recording.path, work.recording.path, is_own=True)
            except UmbrickError as error:
                self._bench.failed.emit(str(error))
                return
            self._opening.close(work)
            self._opening.open([home])

        if work.recording.content.fate(work.home) is Fate.REWRITTEN:
            try:
                work.shelf.write_lost()
            except UmbrickError as error:
                self._bench.failed.emit(str(error))
                return
            self._opening.close(work)
            self._opening.open([work.home])
        else:
            self._save_content(work, reopen)

    def _save_content(self, work: Work, then: Callable[[], None]) -> None:
        """Make sure that the old sound has a name of its own, now that another file has taken its name."""

        def finish() -> None:
            self._accept_stamp(work)
            then()

        if work.home != work.recording.path:
            finish()
            return
        target = free_name(self._folder_for_kept(), work.home, "original")

        def run(_: Job) -> None:
            work.recording.content.copy_to(target)
            write_down(work.home, target)

        def done(_: object) -> None:
            work.recording.moved_to(target)
            finish()

        self._bench.jobs.start(f"keeping {target.name}", run, done)

    def _accept_stamp(self, work: Work) -> None:
        work.home_stamp = stat_of(work.home)
        work.wrote_home = False
        self._write_place(work)

    def _ask_to_own(self, work: Work) -> None:
        def own() -> None:
            work.is_own = True
            self._write_place(work)
            self.put_back()

        text = f"The casebook names {work.home}, but you have not opened that file yourself on this machine."
        self._bench.noticed.emit(Notice(text, (Choice("Put it back there", own),)))

    def _put(self, work: Work, version: Version, saved: Saved, is_first: bool) -> None:
        note_saved(work, version, self._bench)
        if is_first and saved.kept:
            work.recording.moved_to(saved.kept)
        work.wrote_home = True
        work.home_stamp = stat_of(work.home)
        self._write_place(work)

    def _write_place(self, work: Work) -> None:
        try:
            work.shelf.write_place(work.recording.path, work.home, work.is_own)
            work.shelf.write_stamp(work.recording.path)
        except UmbrickError as error:
            self._bench.failed.emit(str(error))

    def _folder_for_kept(self) -> Path:
        if path := self._casebooks.path:
            return path.parent
        folder = kept_folder()
        folder.mkdir(parents=True, exist_ok=True)
        return folder
