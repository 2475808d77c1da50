"""What the commands that mend, change a mend or write on a finding ask first."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from umbrick.core.mend.remedies import is_mendable
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.listening import Listening
from umbrick.ui.bench.looking import Looked, Looking
from umbrick.ui.bench.marking import Marking
from umbrick.ui.bench.mending import Mending, why_not_mended
from umbrick.ui.bench.rehearsing import Rehearsed, Rehearsing
from umbrick.ui.bench.rehearsing_noise import RehearsedNoise, RehearsingNoise
from umbrick.ui.dialogs.first_look_dialog import FirstLookDialog
from umbrick.ui.dialogs.mend_all_dialog import MendAllDialog
from umbrick.ui.dialogs.noise_rehearsal_dialog import NoiseRehearsalDialog
from umbrick.ui.dialogs.rehearsal_dialog import RehearsalDialog
from umbrick.ui.dialogs.words_dialog import WordsDialog
from umbrick.ui.theme import Theme


class MendDialogs:
    """Asks, and passes on what was answered; ``theme`` tells the window's present one."""

    def __init__(
        self,
        bench: Bench,
        mending: Mending,
        rehearsing: Rehearsing,
        rehearsing_noise: RehearsingNoise,
        looking: Looking,
        listening: Listening,
        marking: Marking,
        theme: Callable[[], Theme],
        parent: QWidget,
    ) -> None:
        self._bench = bench
        self._mending = mending
        self._rehearsing = rehearsing
        self._rehearsing_noise = rehearsing_noise
        self._looking = looking
        self._listening = listening
        self._marking = marking
        self._theme = theme
        self._parent = parent
        rehearsing.rehearsed.connect(self._show_rehearsal)
        rehearsing_noise.rehearsed.connect(self._show_noise_rehearsal)
        looking.looked.connect(self._show_first_look)
        marking.naming_wanted.connect(self.ask_marker_name)

    def ask_mend_all(self, with_family: bool = False) -> None:
        """Show what mending all of a kind, or of its family, would do, and do it.

        Without a finding in focus the kind is that of the next one.
        """
        work = self._bench.work
        if work is None or (finding := work.focus or work.listing().neighbour(work.cursor, None, 1)) is None:
            return
        kind = finding.kind
        if not is_mendable(kind):
            self._bench.said.emit(why_not_mended(finding))
            return
        kinds = [kind, *(self._mending.kin_of(kind, work) if with_family else [])]
        dialog = MendAllDialog(work, kinds, self._mending.preferred(work), self._theme(), self._parent)
        if dialog.exec():
            self._mending.mend_all(dialog.included())

    def ask_marker_name(self) -> None:
        """Ask for the chosen marker's name and note."""
        if marker := self._marking.marker():
            dialog = WordsDialog("Marker", marker.name, marker.note, self._parent)
            if dialog.exec():
                name, note = dialog.words
                self._marking.change(marker, name or marker.name, note)

    def ask_note(self) -> None:
        """Ask for a note on the finding in focus."""
        dialog = WordsDialog("Note on this finding", None, self._marking.note_of_focus(), self._parent)
        if dialog.exec():
            self._marking.write_note(dialog.words[1])

    def _show_rehearsal(self, rehearsed: Rehearsed) -> None:
        dialog = RehearsalDialog(rehearsed, self._theme(), self._parent)
        if dialog.exec():
            self._rehearsing.prefer(rehearsed, dialog.chosen)

    def _show_noise_rehearsal(self, rehearsed: RehearsedNoise) -> None:
        dialog = NoiseRehearsalDialog(rehearsed, self._parent)
        if dialog.exec():
            self._rehearsing_noise.take(rehearsed, dialog.chosen_db)

    def _show_first_look(self, looked: Looked) -> None:
        if not looked.look.proposals:
            self._bench.said.emit("A first look found nothing to propose.")
            return
        dialog = FirstLookDialog(looked, self._looking, self._listening, self._parent)
        if dialog.exec():
            self._looking.do(looked, dialog.numbers)
