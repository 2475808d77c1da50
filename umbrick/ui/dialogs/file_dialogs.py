"""What the commands that read or write files ask: which, and where to."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from umbrick.casebook.store import SUFFIX
from umbrick.core.free_names import folder_beside, free_path
from umbrick.core.sound.formats import READABLE_SUFFIXES
from umbrick.ui import settings
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.marking import Marking
from umbrick.ui.dialogs.save_dialog import SaveDialog
from umbrick.ui.files.casebooks import Casebooks
from umbrick.ui.files.listing_out import ListingOut
from umbrick.ui.files.opening import Opening
from umbrick.ui.files.reporting import Reporting
from umbrick.ui.files.saving import Saving
from umbrick.ui.hand.reviewing import Reviewing


class FileDialogs:
    """Asks, and passes on what was answered."""

    def __init__(
        self,
        bench: Bench,
        opening: Opening,
        casebooks: Casebooks,
        saving: Saving,
        marking: Marking,
        reporting: Reporting,
        listing_out: ListingOut,
        reviewing: Reviewing,
        parent: QWidget,
    ) -> None:
        self._bench = bench
        self._opening = opening
        self._casebooks = casebooks
        self._saving = saving
        self._marking = marking
        self._reporting = reporting
        self._listing_out = listing_out
        self._reviewing = reviewing
        self._parent = parent

    def ask_open(self) -> None:
        """Ask which files to open."""
        patterns = " ".join(f"*{suffix}" for suffix in (*READABLE_SUFFIXES, SUFFIX))
        kinds = f"Recordings and casebooks ({patterns});;All files (*)"
        paths, _ = QFileDialog.getOpenFileNames(self._parent, "Open recordings or a casebook", "", kinds)
        self._opening.open([Path(path) for path in paths])

    def ask_find(self, relink_to: Callable[[Path], None], name: str) -> None:
        """Ask where a missing file is now."""
        path, _ = QFileDialog.getOpenFileName(self._parent, f"Where is {name}?", "", f"{name} ({name});;All files (*)")
        if path:
            relink_to(Path(path))

    def ask_name_casebook(self) -> None:
        """Ask for a name for the casebook, and go on in it."""
        work = self._bench.work
        proposed = self._casebooks.path or (work.home.with_suffix(SUFFIX) if work else None)
        path, _ = QFileDialog.getSaveFileName(
            self._parent,
            "Keep the work as a casebook",
            str(proposed or ""),
            f"Casebooks (*{SUFFIX})",
            options=QFileDialog.Option.DontConfirmOverwrite,
        )
        if path:
            self._opening.name_casebook(Path(path))

    def ask_markers_in(self) -> None:
        """Ask which file to take markers in from."""
        kinds = "Markers (*.csv *.wav *.rf64);;All files (*)"
        path, _ = QFileDialog.getOpenFileName(self._parent, "Take markers in", "", kinds)
        if path:
            self._marking.take_in(Path(path))

    def ask_markers_out(self) -> None:
        """Ask where to write the table of markers."""
        if path := self._asked_beside("Write the markers", "-markers.csv", "Tables (*.csv)")[0]:
            self._marking.write_table(Path(path))

    def write_report(self) -> None:
        """Write the page beside the recording, under a name that is free."""
        if work := self._bench.work:
            self._reporting.write(free_path(folder_beside(work.home) / f"{work.name}-report.html"))

    def ask_report(self) -> None:
        """Ask where to write the report, and in which form."""
        path, kind = self._asked_beside("Report", "-report.html", "Page (*.html);;Table (*.csv);;JSON (*.json)")
        if path:
            ending = kind.rpartition("*")[2].rstrip(")")
            chosen = Path(path)
            self._reporting.write(chosen if chosen.suffix else chosen.with_name(chosen.name + ending))

    def ask_save(self) -> None:
        """Ask how to save, and save."""
        self._ask_save(only_selection=False)

    def ask_save_selection(self) -> None:
        """Ask how to save the selection, and save it."""
        self._ask_save(only_selection=True)

    def _ask_save(self, only_selection: bool) -> None:
        if self._bench.work:
            dialog = SaveDialog(self._bench.work, settings.name_pattern(), only_selection, self._parent)
            if dialog.exec():
                settings.set_name_pattern(dialog.chosen_pattern)
                self._saving.save(dialog.order)

    def ask_review_out(self) -> None:
        """Ask where the level review is to be written, and write it."""
        if path := self._asked_beside("Write the level review", " levels.csv", "Table (*.csv)")[0]:
            self._reviewing.write(Path(path))

    def ask_findings_out(self) -> None:
        """Ask where the findings are to be written, and write them."""
        if path := self._asked_beside("Write the findings", " findings.csv", "Table (*.csv);;JSON (*.json)")[0]:
            self._listing_out.write(Path(path))

    def _asked_beside(self, title: str, ending: str, kinds: str) -> tuple[str, str]:
        """Return the file a person names, proposed beside the recording, and its kind; nothing if none is named."""
        if not (work := self._bench.work):
            return "", ""
        proposed = str(work.home.with_name(f"{work.name}{ending}"))
        return QFileDialog.getSaveFileName(self._parent, title, proposed, kinds)
