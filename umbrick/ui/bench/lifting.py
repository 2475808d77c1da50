"""The ledger's work: going to a mend, switching it, changing its settings, lifting it off, restoring a span."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import QObject, Signal

from umbrick.core.errors import ParameterError, UmbrickError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import damage_minded
from umbrick.core.mend.registry import METHODS, method_named
from umbrick.core.timeline.history import FROM_LANES, RESTORE, SETTLE, Edit, Entry, Mend
from umbrick.core.timeline.lifting import (
    Rebuilt,
    StandsOnError,
    lift_off,
    made_again,
    restore_here,
    span_of,
    switch_off,
    switch_on,
)
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock, format_count
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.work.work import Work

_AT_ONCE = 100
"""Mends that are found in a version within a few hundredths of a second."""


_NO_SETTINGS = {
    RESTORE: "A restored original has no settings.",
    FROM_LANES: "What was filled from linked recordings has no settings.",
    SETTLE: "Settled sound has none: lift it off, change the steps of the course (F3), and settle again.",
}


class Lifting(QObject):
    """What can be done with mends that were made earlier; ``chosen`` names those that are chosen in the ledger."""

    changed = Signal()

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.chosen: tuple[str, ...] = ()
        self.job: Job | None = None
        self.shows_settings = False
        """Whether the settings of the chosen mend are shown in the treatment panel."""
        bench.recording_changed.connect(lambda: self.choose(()))
        bench.edited.connect(self._drop_missing)

    def entries(self) -> list[Entry]:
        """Return the chosen lines of the ledger."""
        work = self._bench.work
        return [work.history.entry(name) for name in self.chosen] if work else []

    def choose(self, names: Sequence[str]) -> None:
        """Choose mends; the strips go to the last of them."""
        if tuple(names) == self.chosen:
            return
        self.chosen = tuple(names)
        self.shows_settings = False
        self.changed.emit()
        work = self._bench.work
        if work and names:
            self._show(work, work.history.entry(names[-1]))

    def switch(self) -> None:
        """Switch the chosen mends off, or, if none of them is on, on."""
        work, entries = self._bench.work, self.entries()
        if work is None or not entries:
            return
        names = [entry.mend.id for entry in entries if entry.is_on]
        if names:
            self._try(work, lambda ids: switch_off(work.history, ids), names, "Switched off", "Switch off")
        else:
            names = [entry.mend.id for entry in entries]
            self._try(work, lambda ids: switch_on(work.history, ids), names, "Switched on", "")

    def lift_off(self) -> None:
        """Take the chosen mends out of the recording and the ledger, as if they had never been made."""
        if (work := self._bench.work) and self.chosen:
            self._try(work, lambda ids: lift_off(work.history, ids), list(self.chosen), "Lifted off", "Lift off")

    def restore_selection(self) -> None:
        """Bring back the original in the selection."""
        work = self._bench.work
        if work is None or work.selection is None:
            return
        edit = restore_here(work.history, *work.selection.span)
        if edit is None:
            self._bench.said.emit("The selection is as it was in the original already.")
        elif self._bench.commit(work, edit):
            self._bench.said.emit("The original is back in the selection. It is a line of the ledger like any other.")

    def set_shows_settings(self, shows: bool) -> None:
        """Show the settings of the chosen mend, or do not."""
        self.shows_settings = shows
        self.changed.emit()

    def mend_shown(self) -> Mend | None:
        """Return the mend whose settings are shown."""
        entries = self.entries() if self.shows_settings else []
        return entries[0].mend if len(entries) == 1 else None

    def reason_not_to_change(self) -> str:
        """Return why the settings of what is chosen cannot be changed, or nothing."""
        entries = self.entries()
        if len(entries) != 1:
            return "Choose one mend in the ledger (F6)."
        mend = entries[0].mend
        if mend.method not in METHODS:
            return _NO_SETTINGS.get(mend.method, "Unknown method.")
        try:
            method_named(mend.method).checked(mend.parameters)
        except ParameterError:
            return "This was done by hand: lift it off and do it again, or draw over it."
        return "A mend is being computed again." if self.job else ""

    def reason_not_to_reopen(self) -> str:
        """Return why no seam can be laid on the desk again, or nothing."""
        entries = self.entries()
        if len(entries) != 1 or entries[0].mend.method != "splice":
            return "Choose one splice in the ledger (F6)."
        mend = entries[0].mend
        if mend.parameters.get("time") == "keep" or mend.parameters.get("seam") == "loop":
            return "This one has no cut to slide: E changes its settings."
        return "" if entries[0].is_on else "It is switched off: X switches it on."

    def make_again(self, settings: dict[str, Any]) -> None:
        """Compute the chosen mend again with other settings, in the background; other edits wait meanwhile."""
        work, entries = self._bench.work, self.entries()
        if work is None or len(entries) != 1:
            return
        entry = entries[0]
        lease = work.leases.take("A mend is being computed again; other edits wait.")

        def made(edit: Edit) -> None:
            lease.release()
            self._made_again(work, edit)

        def ended() -> None:
            lease.release()
            self._ended()

        def compute(job: Job) -> Edit:
            return _made_again(work, entry, settings, job)

        self.job = self._bench.jobs.start("computing a mend again", compute, made, ended=ended)
        self.changed.emit()

    def stop(self) -> None:
        """Stop computing; nothing changes."""
        if self.job:
            self.job.cancel()

    def _made_again(self, work: Work, edit: Edit) -> None:
        if made := self._bench.commit(work, edit):
            self.choose([made.made[0].id])
            self._bench.said.emit("Computed again with the new settings. Undo brings the old mend back.")

    def _ended(self) -> None:
        self.job = None
        self.changed.emit()

    def _try(
        self, work: Work, edit_of: Callable[[list[str]], Edit], names: list[str], done: str, together: str
    ) -> None:
        """Do it, or name what stands in the way and offer to take that back too.

        Where there are many, it is worked out beside the window.
        """

        def tried(result: Edit | StandsOnError) -> None:
            if isinstance(result, StandsOnError):
                self._tell_blocked(work, edit_of, names, result, done, together)
            elif self._bench.commit(work, result):
                self._bench.said.emit(f"{done}: {format_count(len(names), 'mend')}. Undo takes that back.")
                self.changed.emit()

        def attempt() -> Edit | StandsOnError:
            try:
                return edit_of(names)
            except StandsOnError as error:
                return error

        if work.held:
            self._bench.failed.emit(work.held)
        elif len(names) <= _AT_ONCE:
            tried(attempt())
        else:
            lease = work.leases.take(f"{format_count(len(names), 'mend')} are being found; other edits wait.")

            def found(result: Edit | StandsOnError) -> None:
                lease.release()
                tried(result)

            def ended() -> None:
                lease.release()
                self._ended()

            self.job = self._bench.jobs.start("finding mends", lambda _: attempt(), found, ended=ended)
            self.changed.emit()

    def _tell_blocked(
        self,
        work: Work,
        edit_of: Callable[[list[str]], Edit],
        names: list[str],
        error: StandsOnError,
        done: str,
        together: str,
    ) -> None:
        blockers = error.blockers
        if not blockers:
            self._bench.failed.emit(str(error))
            return
        where = ", ".join(f"{b.mend.method} at {format_clock(b.mend.start, work.rate)}" for b in blockers[:3])
        more = f" and {len(blockers) - 3} more" if len(blockers) > 3 else ""
        show = Choice("Show", lambda: self.choose([blocker.mend.id for blocker in blockers]))
        choices = [show]
        if together:
            every = [*names, *(blocker.mend.id for blocker in blockers)]
            choices.insert(
                0,
                Choice(f"{together} all {len(every)}", lambda: self._try(work, edit_of, every, done, together)),
            )
        self._bench.noticed.emit(Notice(f"{error.message} {where}{more}.", tuple(choices)))

    def _show(self, work: Work, entry: Entry) -> None:
        """Have the strips go to a mend."""
        span = span_of(work.version, entry) or (entry.mend.start, entry.mend.stop)
        start, stop = (min(frame, work.frames) for frame in span)
        self._bench.focus(None)
        self._bench.look_at(start, stop, entry.mend.channels[0])

    def _drop_missing(self) -> None:
        """Forget what is chosen but no longer in the ledger."""
        work = self._bench.work
        if work and self.chosen:
            left = tuple(name for name in self.chosen if work.history.has_entry(name))
            if left != self.chosen:
                self.chosen = left
            self.changed.emit()


def _made_again(work: Work, entry: Entry, settings: dict[str, Any], job: Job) -> Edit:
    """Return the edit that makes a mend again; raises StandsOnError or ParameterError."""
    span = span_of(work.version, entry)
    if span is None:
        raise UmbrickError("The sound there has changed since.", "Undo to go back.")
    mend = entry.mend
    start, stop = span[0], span[0] + mend.stop - mend.start
    method = method_named(mend.method)

    def rebuild(version: Version) -> Rebuilt:
        place = Place(start, min(stop, version.frames), mend.channels, mend.finding_ids)
        damage = damage_minded(method, work.listing().open_findings())
        mended = apply_method(version, method, settings, [place], damage, is_cancelled=job.is_cancelled)
        return Rebuilt(mended.change, mended.mends[0])

    return made_again(work.history, mend.id, rebuild)
