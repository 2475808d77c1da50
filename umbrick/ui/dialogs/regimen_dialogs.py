"""What the commands for regimens ask: which file, which key, and the windows that edit and run them."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QWidget

from umbrick.core.regimen.regimen import Regimen
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.regimens import KEYS, Regimens
from umbrick.ui.dialogs.batch_dialog import BatchDialog
from umbrick.ui.dialogs.regimen_dialog import BATCH, RUN, RegimenDialog

_KINDS = "Regimens (*.json);;All files (*)"
_NAME = "regimen.json"


class RegimenDialogs:
    """Asks, and passes on what was answered."""

    def __init__(self, bench: Bench, regimens: Regimens, parent: QWidget) -> None:
        self._bench = bench
        self._regimens = regimens
        self._parent = parent
        self.batch: BatchDialog | None = None

    def draw(self) -> None:
        """Edit what was done to the current recording as a regimen."""
        if (regimen := self._regimens.drawn()) is not None:
            self.edit(regimen)

    def open(self) -> None:
        """Ask for a regimen's file, and edit it."""
        if (regimen := self._asked()) is not None:
            self.edit(regimen)

    def edit(self, regimen: Regimen) -> None:
        """Edit a regimen; save it, or run it."""
        dialog = RegimenDialog(regimen, not self._regimens.reason_against(), self._parent)
        if not dialog.exec():
            return
        if dialog.wanted == RUN and self._bench.work is not None:
            self._regimens.run([self._bench.work], dialog.regimen)
        elif dialog.wanted == BATCH:
            self.show_batch(dialog.regimen)
        else:
            self._save(dialog.regimen)

    def keep(self) -> None:
        """Ask which key is to run a regimen."""
        regimen = self._asked()
        if regimen is None:
            return
        names = [f"Ctrl+{key}  {self._regimens.name_on(key) or 'free'}" for key in KEYS]
        chosen, is_chosen = QInputDialog.getItem(
            self._parent, "Keep on a key", f"Which key runs “{regimen.name}”?", names, 0, False
        )
        if is_chosen:
            self._regimens.keep_on(KEYS[names.index(chosen)], regimen)

    def run_on_all(self) -> None:
        """Ask for a regimen, and run it on all open recordings."""
        if (regimen := self._asked()) is not None:
            self._regimens.run(list(self._bench.works), regimen)

    def run_on_selection(self) -> None:
        """Ask for a regimen, and run it on what is selected."""
        work = self._bench.work
        if work is not None and work.selection is not None and (regimen := self._asked()) is not None:
            self._regimens.run([work], regimen, (work.selection.start, work.selection.stop))

    def ask_batch(self) -> None:
        """Ask for a regimen, and show the batch window."""
        if (regimen := self._asked()) is not None:
            self.show_batch(regimen)

    def show_batch(self, regimen: Regimen) -> None:
        """Show the batch window; the bench can be used beside it."""
        work = self._bench.work
        self.batch = BatchDialog(self._bench, regimen, work.home.parent if work else None, self._parent)
        self.batch.show()

    def _asked(self) -> Regimen | None:
        path, _ = QFileDialog.getOpenFileName(self._parent, "Open a regimen", "", _KINDS)
        return self._regimens.load(Path(path)) if path else None

    def _save(self, regimen: Regimen) -> None:
        work = self._bench.work
        proposed = str(work.home.with_name(_NAME)) if work else _NAME
        path, _ = QFileDialog.getSaveFileName(self._parent, "Save the regimen", proposed, _KINDS)
        if path and self._regimens.write(Path(path), regimen):
            self._bench.said.emit(f"The regimen is saved: {path}.")
